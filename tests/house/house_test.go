package house_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestAccountsInheritFromTheirGroupsLive(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "group", "add", "crews", "-home", "files:{group}/{account}", "-rights", "add-only", "-grant", "/in=drop-only;never=*.exe", "-max-sessions", "3")
	k.Must(nil, "group", "add", "readers", "-mount", "/maps=files:maps,ro", "-grant", "/maps=read-only", "-max-sessions", "9", "-idle-time", "5m")
	_, errs, status := k.CLIWith(testkit.Password+"\n", "account", "add", "ann", "-password", "-group", "crews", "-group", "readers")
	require.Zero(t, status, errs)
	file, content := testkit.File(t, 2000)
	out, err := k.Curl("ann", "ftps", "/f", "-T", file)
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Dir, "files", "crews", "ann", "f")))
	_, err = k.Curl("ann", "ftps", "/f", "-T", file)
	assert.Error(t, err, "add-only does not overwrite")
	_, err = k.Curl("ann", "ftps", "/in/Setup.EXE", "-T", file, "--ftp-create-dirs")
	assert.Error(t, err)
	shown := k.Must(nil, "account", "show", "ann")
	assert.Regexp(t, `sessions at once\s+3\s+group crews`, shown)
	assert.Regexp(t, `idle time\s+5m\s+group readers`, shown)
	assert.Regexp(t, `/maps\s+files:maps\s+read-only\s+-\s+group readers`, shown)
	assert.Regexp(t, `/in\s+drop-only\s+never \*.exe\s+group crews`, shown)

	live := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	live.Say("DELE f", 550)
	k.Must(nil, "group", "set", "crews", "-rights", "full")
	live.Say("DELE f", 250)
	k.Must(nil, "account", "set", "ann", "-max-sessions", "0")
	assert.Regexp(t, `sessions at once\s+any number\s+account`, k.Must(nil, "account", "show", "ann"))
	k.Must(nil, "account", "set", "ann", "-max-sessions", "inherit")
	assert.Regexp(t, `sessions at once\s+3\s+group crews`, k.Must(nil, "account", "show", "ann"))

	// What is in use stays, and it is said by whom; so does what would break an account.
	assert.Contains(t, k.Refused("group", "delete", "crews"), "in use by the account ann")
	assert.Contains(t, k.Refused("group", "set", "crews", "-unmount", "/"), "would break the account ann: a home is always explicit")
	assert.Contains(t, k.Refused("account", "set", "ann", "-ungroup", "crews"), "a home is always explicit")
	assert.Contains(t, k.Refused("account", "set", "ann", "-group", "none"), "no group is named none")
	assert.Regexp(t, `(?s)LISTENER +sftp.*encryption +required.*allowed +everybody`, k.Must(nil, "listener", "show", "sftp"))
	assert.Contains(t, k.Refused("listener", "show", "nosuch"), `no such listener: "nosuch"`)
	assert.Contains(t, k.Refused("store", "remove", "files"), "in use by the mounts of group crews and group readers")
	k.Must(nil, "account", "set", "ann", "-ungroup", "readers")
	k.Must(nil, "group", "delete", "readers")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "group-set")
	require.Len(t, trail, 1)
	assert.NotEmpty(t, trail[0].Before)

	k.Must(nil, "account", "clone", "ann", "ben")
	assert.Contains(t, k.Must(nil, "account", "show", "ben"), "crews")
	assert.Contains(t, live.Expect(421), "folders were changed")
	live = ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	k.Must(nil, "account", "suspend", "ann")
	assert.Contains(t, live.Expect(421), "the account was suspended")
}

func TestRulesThatSayNothingAreRefused(t *testing.T) {
	k := testkit.Start(t)
	for _, c := range [][2]string{{"/in=", "no right is named"}, {"/in=full;zone=Europe/Oslo", "limits nothing"}, {"/in=full;only=", "says nothing"}, {"in=full", "must begin with a slash"}} {
		_, errs, status := k.CLI("account", "add", "ann", "-home", "files:ann", "-grant", c[0])
		assert.NotZero(t, status)
		assert.Contains(t, errs, c[1])
	}
	_, errs, status := k.CLI("account", "add", "ann", "-home", "")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "a home is always explicit")
}

func TestStoresLieWhereTheyMay(t *testing.T) {
	k := testkit.Start(t)
	allowed, elsewhere := t.TempDir(), t.TempDir()
	plates := filepath.Join(allowed, "plates")
	assert.Contains(t, k.Must(nil, "store", "add", "plates", plates), plates)
	assert.DirExists(t, plates)
	assert.Contains(t, k.Refused("store", "grounds", "-set", allowed), "the store files lies in")
	k.Must(nil, "store", "grounds", "-set", allowed, "-set", k.Dir)
	assert.Contains(t, k.Refused("store", "add", "other", elsewhere), "outside of the folders that stores may use")
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(allowed, "sly")))
	assert.Contains(t, k.Refused("store", "add", "other", filepath.Join(allowed, "sly")), "outside of the folders")
	assert.Contains(t, k.Refused("store", "add", "other", filepath.Join(plates, "inner")), "overlaps with the store plates")
	assert.Contains(t, k.Refused("store", "add", "other", k.Dir), "the data folder holds the records")
	k.Must(nil, "store", "grounds", "-anywhere")
	assert.Contains(t, k.Refused("store", "add", "other", "/"), "the whole disk can't be a store")
	k.Account("ann", "-mount", "/plates=plates:/,ro", "-grant", "/plates=read-only")
	require.NoError(t, os.WriteFile(filepath.Join(plates, "one.tif"), []byte("plate"), 0o640))
	out, err := k.Curl("ann", "ftps", "/plates/one.tif")
	require.NoError(t, err)
	assert.Equal(t, "plate", out)
	assert.Contains(t, k.Refused("store", "remove", "plates"), "in use by the mounts of ann")
	k.Must(nil, "account", "set", "ann", "-unmount", "/plates")
	k.Must(nil, "store", "remove", "plates")
	assert.FileExists(t, filepath.Join(plates, "one.tif"))
}

func TestARosterIsReadBackAsItWasWritten(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	k.Account("ann", "-note", "=1+1, \"formula\"", "-mount", "/maps=files:maps,ro,bytes=2048", "-grant", "/maps=read-only;days=mon-fri;hours=08:00-18:00;zone=Europe/Oslo", "-group", "crews",
		"-allow", "192.0.2.0/24,2001:db8::7", "-valid-until", "2099-01-01", "-protocols", "sftp,ftps", "-starters", "/a,/b", "-speed-up", "2MiB", "-umask", "007", "-deny", "nobody")
	roster := k.Must(nil, "account", "export")
	assert.Contains(t, roster, "'=1+1", "no spreadsheet takes it for a formula")
	assert.NotContains(t, roster, "argon2")
	out, _, status := k.CLIWith(roster, "account", "import", "-", "-dry-run")
	require.Zero(t, status)
	assert.Regexp(t, `2\s+ann\s+nothing`, out)

	more := "account,groups,note,max-sessions,password\nann,crews,changed,4,\nben,crews,new,2,generate\n"
	out, _, status = k.CLIWith(more, "account", "import", "-", "-dry-run")
	require.Zero(t, status)
	assert.Contains(t, out, `note: "=1+1, \"formula\"" → "changed"; max-sessions: nothing → "4"`)
	assert.Contains(t, out, "Nothing was changed")
	assert.Contains(t, k.Refused("account", "show", "ben"), "no such account")
	bad := more + "cat,none,,,\ndan,crews,,many,\n"
	out, errs, status := k.CLIWith(bad, "account", "import", "-")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "2 of 4 lines refused, so nothing was changed")
	assert.Regexp(t, `4\s+cat\s+refused\s+groups: no group is named none`, out)
	assert.Contains(t, k.Refused("account", "show", "ben"), "no such account")
	out, errs, status = k.CLIWith(more, "account", "import", "-")
	require.Zero(t, status, errs)
	_, password, _ := strings.Cut(out, "shown this once: ")
	password, _, _ = strings.Cut(password, ")")
	got, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", "ben:"+password, "ftps://"+k.Address("ftps")+"/")
	assert.NoError(t, err, got)
	var ann api.Account
	k.Must(&ann, "account", "show", "ann")
	assert.Equal(t, "changed", ann.Note)
	assert.Len(t, ann.Mounts, 2, "what has no column stays")
	for text, say := range map[string]string{"": "it is empty", "name\nann\n": "there is no column", "note\nx\n": "the column account is missing", "account,note\nann\n": "it has 1 cell, and the first line names 2 columns", "account,note\n\"ann\n": "is no CSV",
		"account\nann\nANN\n": "twice", "account,password\nann,hunter22hunter\n": "don't stand in tables"} {
		out, errs, status := k.CLIWith(text, "account", "import", "-")
		assert.Equal(t, 1, status, text)
		assert.Contains(t, out+errs, say)
	}
}

func TestARehearsalShowsWhatEnforcementDoesAndLeavesNoTrace(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-rights", "read-only", "-mount", "/maps=files:maps,ro", "-grant", "/in=drop-only;never=*.exe", "-grant", "/maps=full", "-sign-in-by", "both", "-must-change", "-max-sessions", "1", "-quota-bytes", "10")
	var r api.Rehearsal
	k.Must(&r, "rehearse", "ann")
	assert.True(t, r.Agrees)
	seen := map[string]int{}
	for _, try := range r.Tries {
		seen[try.Listener+" "+try.Expected]++
		assert.Equal(t, try.Expected, try.Observed, "%+v", try)
	}
	for _, l := range []string{"ftp", "ftps", "sftp", "web"} {
		assert.Greater(t, seen[l+" allowed"], 5, l)
		assert.Greater(t, seen[l+" refused"], 10, l)
	}
	left, err := filepath.Glob(filepath.Join(k.Dir, "rehearsal-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.NoDirExists(t, k.Home("ann"), "the real files were not touched")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-most", "1000")
	marked, ended := 0, false
	for _, one := range trail {
		if one.Account == "ann" && one.Action != "sign-out" {
			assert.True(t, one.Action == "rehearsal" || one.Rehearsal, "%+v", one)
			marked++
		}
		ended = ended || one.Operator == "local" && one.Action == "rehearsal" && strings.Contains(one.Detail, "0 not as they should be")
	}
	assert.Greater(t, marked, 60)
	assert.True(t, ended)
	var shown api.Account
	k.Must(&shown, "account", "show", "ann")
	assert.Nil(t, shown.LastSignIn)

	k.Must(nil, "account", "suspend", "ann")
	k.Must(&r, "rehearse", "ann")
	require.Len(t, r.Tries, 5, "a suspended account must be refused, and is")
	k.Must(nil, "account", "resume", "ann")
	k.Must(nil, "gate", "set", "-deny", "127.0.0.1")
	k.Must(&r, "rehearse", "ann")
	assert.Equal(t, "refused", r.Tries[0].Observed)
}
