package house_test

import (
	"fmt"
	"os"
	"testing"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

func undo(k *testkit.Keep, c api.Change) string { return k.Must(nil, "undo", fmt.Sprint(c.ID)) }

// What only owners change, a manager does not change by taking a change back.
func TestAManagerTakesNoChangeOfAnOwnerBack(t *testing.T) {
	k := testkit.Start(t)
	first := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, first)
	first.Call("POST", "/operators", api.OperatorNew{Operator: "tomas", Password: testkit.Password, Role: "manager"}, 201, nil)
	first.Call("PUT", "/routes", api.Routes{Routes: []keep.Route{{Pattern: "ext-*", Sources: []string{"own"}}}}, 200, nil)
	change := fmt.Sprintf("/changes/%d/undo", k.NewestChange("routes").ID)
	testkit.SignedIn(t, k, "tomas").Call("POST", change, nil, 403, nil)
	first.Call("POST", change, nil, 200, nil)
}

func TestOneChangeIsTakenBackAndTheOthersStay(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-rights", "full", "-note", "first")
	k.Must(nil, "account", "set", "ann", "-rights", "read-only", "-max-sessions", "2")
	narrowed := k.NewestChange("account")
	k.Must(nil, "account", "set", "ann", "-note", "second")
	assert.Regexp(t, `note: first → second`, k.Must(nil, "history", "-name", "ann"))

	live := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	live.Say("MKD in", 550)
	said := undo(k, narrowed)
	assert.Contains(t, said, "sessions at once: 2 → not set")
	live.Say("MKD in", 257) // at once, in the open session
	shown := k.Must(nil, "account", "show", "ann")
	assert.Contains(t, shown, "second", "what changed since stays")
	assert.Contains(t, k.Refused("undo", fmt.Sprint(narrowed.ID)), "was taken back by the change")
	undo(k, k.NewestChange("account"))
	assert.Contains(t, k.Must(nil, "account", "show", "ann"), "read-only", "an undo is a change like others")

	k.Must(nil, "account", "set", "ann", "-max-sessions", "3")
	before := k.NewestChange("account")
	k.Must(nil, "account", "set", "ann", "-max-sessions", "4")
	assert.Contains(t, k.Refused("undo", fmt.Sprint(before.ID)), "maxSessions was changed again since")
	_, errs, status := k.CLIWith("harvest-quill-927-moth\n", "account", "set", "ann", "-password")
	require.Zero(t, status, errs)
	assert.Contains(t, k.Refused("undo", fmt.Sprint(k.NewestChange("account").ID)), "a password can't be taken back")

	k.Must(nil, "account", "suspend", "ann")
	k.Must(nil, "account", "delete", "ann")
	gone := k.NewestChange("account")
	undo(k, gone)
	shown = k.Must(nil, "account", "show", "ann")
	assert.Contains(t, shown, "second")
	assert.Contains(t, shown, "suspended", "it comes back as it was, but for password and keys")
	assert.Contains(t, k.Refused("undo", fmt.Sprint(gone.ID)), "was taken back")
	undo(k, k.NewestChange("account"))
	assert.Contains(t, k.Refused("account", "show", "ann"), "no such account")
}

func TestEveryKindOfSettingIsTakenBack(t *testing.T) {
	k := testkit.Start(t)
	for _, c := range []struct {
		what string
		do   []string
		show []string
		is   string // shows only while the change holds
	}{
		{"group", []string{"group", "add", "crews", "-max-sessions", "7"}, []string{"group", "list"}, "crews"},
		{"listener", []string{"listener", "set", "ftp", "-banner", "Port Selwyn"}, []string{"listener", "list", "-json"}, "Port Selwyn"},
		{"listener", []string{"listener", "add", "inner", "sftp", "127.0.0.1:0"}, []string{"listener", "list"}, "inner"},
		{"store", []string{"store", "add", "plates", t.TempDir()}, []string{"store", "list"}, "plates"},
		{"gate", []string{"gate", "set", "-deny", "203.0.113.0/24"}, []string{"gate", "show"}, "203.0.113"},
		{"retention", []string{"retention", "set", "-days", "400"}, []string{"retention", "show"}, "400"},
		{"store-grounds", []string{"store", "grounds", "-set", os.TempDir()}, []string{"store", "grounds"}, os.TempDir()},
		{"service", []string{"service", "set", "-name", "Survey Office", "-host", "files.portselwyn.example"}, []string{"service", "show"}, "Survey Office"},
		{"collector", []string{"collector", "set", "udp://127.0.0.1:9"}, []string{"collector", "show"}, "udp://127.0.0.1:9"},
	} {
		k.Must(nil, c.do...)
		assert.Contains(t, k.Must(nil, c.show...), c.is, c.what)
		undo(k, k.NewestChange(c.what))
		assert.NotContains(t, k.Must(nil, c.show...), c.is, c.what)
		undo(k, k.NewestChange(c.what))
		assert.Contains(t, k.Must(nil, c.show...), c.is, "%s, the undo undone", c.what)
	}
	for _, bad := range []string{"http://x", "x y", "-x"} {
		assert.Contains(t, k.Refused("service", "set", "-host="+bad), "use a host name or an IP address")
	}
	assert.Contains(t, k.Refused("undo", "9999"), "no such change")
}

// What is so already is said, and leaves no line in the history and no record.
func TestWhatIsSoAlreadyChangesNothing(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-note", "first")
	k.AddOperator("ilse", "owner")
	key := k.Key("ann")
	require.NotEmpty(t, key)
	count := func() (changes int, records string) {
		var all []api.Change
		k.Must(&all, "history", "-most", "1000")
		return len(all), k.Must(nil, "audit", "-count", "-operator", "local")
	}
	for _, args := range [][]string{{"account", "set", "ann", "-note", "second"}, {"account", "suspend", "ann"}, {"gate", "set", "-deny", "192.0.2.7"}, {"listener", "set", "sftp", "-banner", "hello"},
		{"retention", "set", "-days", "400"}, {"limits", "set", "-attempts", "4"}, {"service", "set", "-name", "Office"}, {"store", "set", "files", "-durability", "process"}, {"operator", "set", "ilse", "-no-codes", "-role", "owner"}} {
		_, errs, status := k.CLI(args...)
		require.Zero(t, status, "%v: %s", args, errs)
		changes, records := count()
		out, errs, status := k.CLI(args...)
		require.Zero(t, status, "%v: %s", args, errs)
		assert.Regexp(t, "already", out+errs, "%v", args)
		changesNow, recordsNow := count()
		assert.Equal(t, changes, changesNow, "%v", args)
		assert.Equal(t, records, recordsNow, "%v", args)
	}
}
