package sources

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// house is a service whose guests come from a directory.
type house struct {
	*testkit.Keep
	t    *testing.T
	city *counterpart.Slapd
}

const password = "a gauge in the harbour"

// ldif is who the directory knows.
func ldif() string {
	return counterpart.Person("ann", password) + counterpart.Person("ben", password) + counterpart.Person("eve", password) + counterpart.Person("locked", password, "nsAccountLock: TRUE") +
		counterpart.Person("gone", password, "shadowExpire: 19000") + counterpart.Person("weird*", password) + counterpart.Person("anonymous", password) +
		counterpart.Group("harbour", "ann") + counterpart.Group("surveyors", "cn=harbour,"+counterpart.Groups, "ben", "locked", "gone", "anonymous")
}

func start(t *testing.T) *house {
	h := &house{testkit.Start(t), t, counterpart.StartSlapd(t, ldif())}
	h.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	h.Must(nil, "group", "add", "harbour")
	h.add("city", h.city.TLS, "-table", "surveyors=crews", "-table", "cn=harbour,"+counterpart.Groups+"=harbour", "-nested", "-makes")
	h.Must(nil, "route", "add", "*", "city", "own")
	return h
}

// add makes a source of the directory.
func (h *house) add(name, server string, more ...string) {
	args := append([]string{"source", "add", name, server, "-bind-as", h.city.LookUp, "-base", counterpart.People, "-group-base", counterpart.Groups, "-trust", h.city.Trust}, more...)
	_, said, status := h.CLIWith(counterpart.LookUpPassword+"\n", args...)
	require.Zero(h.t, status, said)
}

// ftps signs in, and says what came of it.
func (h *house) ftps(account, with string) error {
	out, err := testkit.Run(h.t, "", "curl", "-sS", "-k", "--ssl-reqd", "-u", account+":"+with, "ftp://"+h.Address("ftp")+"/")
	if err != nil {
		return fmt.Errorf("%w: %s", err, out+h.last(account).Detail)
	}
	return nil
}

// last is the newest record of a sign-in of an account.
func (h *house) last(account string) keep.AuditRecord {
	var found []keep.AuditRecord
	require.Eventually(h.t, func() bool {
		h.Must(&found, "audit", "-action", "sign-in", "-account", account)
		return len(found) > 0
	}, testkit.Patience, 10*time.Millisecond)
	return found[0]
}

func TestPeopleOfADirectorySignIn(t *testing.T) {
	h := start(t)
	require.NoError(t, h.ftps("ann", password))
	var ann struct {
		Source, Mail string
		Groups       []string
		HasPassword  bool
	}
	h.Must(&ann, "account", "show", "ann")
	assert.Equal(t, "city", ann.Source)
	assert.Equal(t, "ann@port-selwyn.example", ann.Mail)
	assert.Equal(t, []string{"crews", "harbour"}, ann.Groups, "one of a group in a group, in the order of the table")
	assert.False(t, ann.HasPassword)
	var made []keep.AuditRecord
	h.Must(&made, "audit", "-action", "account-add")
	assert.Equal(t, "source city", made[0].Operator)

	// Everything else is refused, and the trail says why.
	for _, c := range []struct{ who, with, why string }{
		{"ann", "wrong", "wrong password, says city"}, {"ann", "", "wrong password, says city"}, {"locked", password, "it is disabled"}, {"gone", password, "its time is over"},
		{"nobody", password, "know nobody of that name"}, {"eve", password, "a home is always explicit"},
		{"*", password, "no such account"}, {"a*", password, "no such account"}, {"ann)(uid=*", password, "no such account"},
	} {
		require.Error(t, h.ftps(c.who, c.with), "%q with %q", c.who, c.with)
		assert.Contains(t, h.last(c.who).Detail, c.why, "%q with %q", c.who, c.with)
	}
	_, said, status := h.CLI("account", "show", "eve")
	assert.Equal(t, 1, status, said)

	// Many at once make one account.
	var all sync.WaitGroup
	errs := make([]error, 8)
	for n := range errs {
		all.Go(func() { errs[n] = h.ftps("ben", password) })
	}
	all.Wait()
	require.NoError(t, errors.Join(errs...))
	h.Must(&made, "audit", "-action", "account-add")
	assert.Len(t, made, 2)

	// What the directory says now counts now.
	h.city.Modify("dn: cn=harbour," + counterpart.Groups + "\nchangetype: modify\nreplace: member\nmember: uid=eve," + counterpart.People)
	require.Error(t, h.ftps("ann", password), "no group gives a folder")
	h.city.Modify("dn: cn=surveyors," + counterpart.Groups + "\nchangetype: modify\nadd: member\nmember: uid=ann," + counterpart.People)
	require.NoError(t, h.ftps("ann", password))
	h.Must(&ann, "account", "show", "ann")
	assert.Equal(t, []string{"crews"}, ann.Groups)

	// Who is somebody else under the same name does not get the account.
	h.city.Modify("dn: uid=ann," + counterpart.People + "\nchangetype: delete")
	require.Error(t, h.ftps("ann", password))
	h.city.Modify(strings.Replace(counterpart.Person("ann", password), "\n", "\nchangetype: add\n", 1) + "\ndn: cn=surveyors," + counterpart.Groups + "\nchangetype: modify\nreplace: member\nmember: uid=ann," + counterpart.People)
	require.Error(t, h.ftps("ann", password))
	assert.Contains(t, h.last("ann").Detail, "somebody else of that name")
	h.Must(nil, "account", "set", "ann", "-source", "city")
	require.NoError(t, h.ftps("ann", password))
}

func TestANameIsOfOneSource(t *testing.T) {
	h := start(t)
	h.Account("ben")
	out, said, status := h.CLIWith("a ledger of our own\n", "account", "set", "ben", "-password")
	require.Zero(t, status, out+said)
	require.Error(t, h.ftps("ben", password), "the directory's password does not open an account of our own")
	require.NoError(t, h.ftps("ben", "a ledger of our own"))

	h.Must(nil, "account", "set", "ben", "-source", "city")
	require.NoError(t, h.ftps("ben", password))
	require.Error(t, h.ftps("ben", "a ledger of our own"))
	_, said, status = h.CLIWith("another of our own\n", "account", "set", "ben", "-password")
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "city")

	said, _, status = h.CLI("rehearse", "ben", "-json")
	assert.Zero(t, status, said)
	assert.Contains(t, said, "city vouches for it, which the route * asks")

	// What no route asks for, nobody gets into.
	assert.Contains(t, h.Must(nil, "route", "add", "b*", "own", "-before", "1"), "can't sign in, for their route does not ask the source they come from: ben")
	require.Error(t, h.ftps("ben", password))
	assert.Contains(t, h.last("ben").Detail, "the account comes from city")
	said, _, status = h.CLI("explain", "ben", "list", "/")
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "the route b* asks own only")
	said, _, status = h.CLI("rehearse", "ben", "-json")
	assert.Zero(t, status, said)
	assert.Contains(t, said, "the route b* asks own only")
	for _, args := range [][]string{{"source", "remove", "city"}, {"group", "delete", "crews"}, {"route", "add", "c*", "nobody"}, {"account", "set", "ben", "-source", "nobody"}, {"source", "add", "own", h.city.TLS, "-base", "dc=x"}} {
		_, said, status := h.CLI(args...)
		assert.Equal(t, 1, status, "%v: %s", args, said)
	}
	h.Must(nil, "source", "set", "city", "-off")
	h.Must(nil, "route", "remove", "b*")
	require.Error(t, h.ftps("ben", password))
	assert.Equal(t, keep.SourceAway, h.last("ben").Reason)
}

func TestADirectoryIsTrustedFirst(t *testing.T) {
	h := start(t)
	check := func(status int, args ...string) string {
		out, said, got := h.CLIWith(password+"\n", append([]string{"source", "check"}, args...)...)
		require.Equal(t, status, got, out+said)
		return out
	}
	assert.Contains(t, check(0, "city"), "there are people")
	assert.Contains(t, check(0, "city", "-account", "ann", "-password"), "the account ann would be made, in crews, harbour")
	assert.Contains(t, check(1, "city", "-account", "locked"), "it is disabled")
	assert.Contains(t, check(1, "city", "-account", "nobody"), "nobody of that name")
	h.Must(nil, "source", "set", "city", "-suffix", "@city.example")
	assert.Contains(t, check(0, "city", "-account", "ann@city.example"), "would be made")
	assert.Contains(t, check(1, "city", "-account", "ann@other.example"), "end in @city.example")
	require.Error(t, h.ftps("ann@other.example", password), "nobody gets a second account")
	h.Must(nil, "source", "set", "city", "-suffix", "none")
	// Groups by what people's entries say, and what these groups' entries say.
	for _, group := range []string{counterpart.Group("pilots", "ann"), counterpart.Group("flyers", "cn=pilots,"+counterpart.Groups)} {
		h.city.Modify(strings.Replace(strings.TrimSpace(group), "\n", "\nchangetype: add\n", 1))
	}
	h.Must(nil, "source", "set", "city", "-group-base", "none", "-table", "flyers=crews")
	assert.Contains(t, check(0, "city", "-account", "ann"), "would be made, in crews")
	h.Must(nil, "source", "set", "city", "-flat")
	assert.Contains(t, check(0, "city", "-account", "ann"), "in no group")
	h.add("starttls", h.city.Plain)
	assert.Contains(t, check(0, "starttls"), "StartTLS")
	_, said, status := h.CLIWith(counterpart.LookUpPassword+"\n", "source", "add", "strange", h.city.TLS, "-bind-as", h.city.LookUp, "-base", counterpart.People)
	require.Zero(t, status, said)
	assert.Contains(t, check(1, "strange"), "trusted")
	_, said, status = h.CLIWith("wrong\n", "source", "add", "unbound", h.city.TLS, "-bind-as", h.city.LookUp, "-base", counterpart.People, "-trust", h.city.Trust)
	require.Zero(t, status, said)
	assert.Contains(t, check(1, "unbound"), "bind as cn=lookup")
	for _, server := range []string{"http://127.0.0.1", "ldaps://", "127.0.0.1:389", "ldap://user@host"} {
		_, said, status := h.CLIWith("x\n", "source", "add", "bad", server, "-base", counterpart.People)
		assert.Equal(t, 1, status, server+said)
	}
	// A secret is shown to nobody, and goes to no other server than it was given for.
	out, _, _ := h.CLI("source", "list", "-json")
	assert.NotContains(t, out, counterpart.LookUpPassword)
	_, said, status = h.CLI("source", "set", "city", "-servers", "ldaps://192.0.2.1")
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "give the secret again")
}

func TestWhileTheDirectoryIsAway(t *testing.T) {
	h := start(t)
	require.NoError(t, h.ftps("ann", password))
	h.city.Stop()
	began := time.Now()
	require.Error(t, h.ftps("ann", password))
	h.city.Start()
	h.city.Freeze()
	require.Error(t, h.ftps("ann", password), "it answers nothing")
	h.city.Thaw()
	assert.Less(t, time.Since(began), 2*testkit.Patience)
	assert.Equal(t, keep.SourceAway, h.last("ann").Reason)

	h.Must(nil, "source", "set", "city", "-away", "recent", "-recent", "1h")
	require.Eventually(t, func() bool { return h.ftps("ann", password) == nil }, testkit.Patience, 100*time.Millisecond, "it is there again")
	h.city.Freeze()
	require.NoError(t, h.ftps("ann", password), "who was let in a moment ago")
	assert.Contains(t, h.last("ann").Detail, "it is away now")
	require.Error(t, h.ftps("ann", "wrong"))
	assert.Equal(t, keep.BadCredentials, h.last("ann").Reason, "a guess counts as one")
	require.Error(t, h.ftps("ben", password), "nobody has seen ben")
	h.Must(nil, "account", "set", "ann", "-second-factor", "required", "-factor-on", "ftp")
	require.Error(t, h.ftps("ann", password))
	assert.Equal(t, keep.CodeUnset, h.last("ann").Reason, "the second factor is asked for all the same")
	h.Must(nil, "account", "set", "ann", "-second-factor", "inherit", "-factor-on", "inherit")
	h.city.Thaw()

	// What the directory takes no more is not taken while it is away either.
	h.city.Modify("dn: uid=ann," + counterpart.People + "\nchangetype: modify\nreplace: userPassword\nuserPassword: another one")
	require.Eventually(t, func() bool {
		h.ftps("ann", password)
		return h.last("ann").Reason == keep.BadCredentials && strings.Contains(h.last("ann").Detail, "says city")
	}, testkit.Patience, 100*time.Millisecond)
	h.city.Stop()
	require.Error(t, h.ftps("ann", password))
	h.city.Start()
}

func TestKeysOfADirectory(t *testing.T) {
	h := start(t)
	file := filepath.Join(t.TempDir(), "key")
	out, err := exec.Command("ssh-keygen", "-q", "-N", "", "-t", "ed25519", "-f", file).CombinedOutput()
	require.NoError(t, err, string(out))
	public, err := os.ReadFile(file + ".pub")
	require.NoError(t, err)
	set := func(name, key string) {
		h.city.Modify("dn: uid=" + name + "," + counterpart.People + "\nchangetype: modify\nreplace: sshPublicKey\nsshPublicKey: " + key)
	}
	set("ann", strings.TrimSpace(string(public)))
	set("ben", "cert-authority "+strings.TrimSpace(string(public)))
	said, err := h.SFTP("ann", file, "ls")
	require.Error(t, err, "the source gives no keys: "+said)
	h.Must(nil, "source", "set", "city", "-key-attribute", "sshPublicKey")
	said, err = h.SFTP("ann", file, "ls")
	require.NoError(t, err, "the first sign-in makes the account: "+said)
	assert.Equal(t, "key, of city", h.last("ann").Detail)
	for _, who := range []string{"ben", "eve", "nobody", "*"} {
		said, err = h.SFTP(who, file, "ls")
		require.Error(t, err, who+said)
	}

	// A key of our own opens nothing for who has left.
	own := h.Key("ann")
	said, err = h.SFTP("ann", own, "ls")
	require.NoError(t, err, said)
	h.city.Modify("dn: uid=ann," + counterpart.People + "\nchangetype: modify\nreplace: nsAccountLock\nnsAccountLock: TRUE")
	require.Eventually(t, func() bool { _, err := h.SFTP("ann", own, "ls"); return err != nil }, testkit.Patience, time.Second, "what it said is remembered for a short while")
	assert.Contains(t, h.last("ann").Detail, "it is disabled")
}

func TestAccountsAreKeptInStep(t *testing.T) {
	h := start(t)
	var entries strings.Builder
	const many = 200
	members := []string{}
	for n := range many {
		name := fmt.Sprint("clerk-", n)
		entries.WriteString(counterpart.Person(name, password))
		members = append(members, name)
	}
	h.city.Stop()
	h.city.Add(entries.String() + counterpart.Group("clerks", members...))
	h.city.Start()
	h.Must(nil, "source", "set", "city", "-table", "surveyors=crews", "-table", "clerks=crews")
	h.Account("ben")
	var plan api.SourceSync
	sync := func(status int, args ...string) string {
		plan = api.SourceSync{}
		out, said, got := h.CLI(append([]string{"source", "sync", "city", "-json"}, args...)...)
		require.Equal(t, status, got, out+said)
		require.NoError(t, json.Unmarshal([]byte(out), &plan))
		return said
	}
	counts := func() [3]int { return [3]int{plan.Come, plan.Change, plan.Leave} }
	sync(0)
	assert.Equal(t, [3]int{many + 1, 0, 0}, counts(), "ann too, who is in a group in a group; not the locked, nor ben, who is ours")
	_, said, status := h.CLI("account", "show", "clerk-7")
	assert.Equal(t, 1, status, "nothing is done: "+said)
	sync(0, "-go")
	assert.True(t, plan.Done)
	_, said, status = h.CLI("account", "show", "anonymous")
	assert.Equal(t, 1, status, "a directory opens nothing to everybody: "+said)
	require.NoError(t, h.ftps("clerk-7", password))
	newest := func() int64 {
		var found []keep.AuditRecord
		h.Must(&found, "audit", "-most", "1")
		return found[0].Seq
	}
	time.Sleep(time.Second) // the end of that session
	before := newest()
	sync(0, "-go")
	assert.Equal(t, [3]int{0, 0, 0}, counts())
	assert.Equal(t, before, newest(), "a second time writes nothing")

	// Leavers are suspended and their sessions end; who is back signs in again. Too many at once stop and ask.
	client, err := ssh.Dial("tcp", h.Address("sftp"), &ssh.ClientConfig{User: "clerk-7", Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(t, err)
	defer client.Close()
	h.city.Modify("dn: uid=clerk-7," + counterpart.People + "\nchangetype: modify\nreplace: nsAccountLock\nnsAccountLock: TRUE")
	h.Must(nil, "source", "set", "city", "-every", "1m")
	require.Eventually(t, func() bool {
		var a struct{ State string }
		h.Must(&a, "account", "show", "clerk-7")
		return a.State == "suspended"
	}, testkit.Patience, 100*time.Millisecond, "by itself")
	ended := make(chan error, 1)
	go func() { ended <- client.Wait() }()
	select {
	case <-ended:
	case <-time.After(testkit.Patience):
		t.Fatal("the session goes on")
	}
	h.city.Modify("dn: uid=clerk-7," + counterpart.People + "\nchangetype: modify\nreplace: nsAccountLock\nnsAccountLock: FALSE")
	h.Must(nil, "account", "suspend", "clerk-8")
	sync(0, "-go")
	assert.Equal(t, [3]int{0, 1, 0}, counts(), "not who was suspended by an operator")
	require.NoError(t, h.ftps("clerk-7", password))

	h.Must(nil, "source", "set", "city", "-people", "(uid=nobody)", "-every", "0")
	assert.Contains(t, sync(1, "-go"), "would be suspended, which is more than 20")
	require.NoError(t, h.ftps("ben", testkit.Password))
	h.Must(nil, "source", "set", "city", "-people", "(objectClass=person)")
	require.NoError(t, h.ftps("clerk-9", password), "nobody was suspended")
	h.city.Stop()
	_, said, status = h.CLI("source", "sync", "city", "-go")
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "nothing is changed")
}
