package clients_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"urbankeep/tests/testkit/sftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestEachSignInPolicyWithTheRealClient(t *testing.T) {
	k := testkit.Start(t)
	const keyOnly, passwordOnly, questionOnly, usual = "publickey", "password", "keyboard-interactive", "publickey,keyboard-interactive,password"
	for policy, opens := range map[string][]string{
		"either":   {keyOnly, passwordOnly, questionOnly, usual},
		"password": {passwordOnly, questionOnly, usual},
		"key":      {keyOnly, usual},
		"both":     {usual, "publickey,password", "publickey,keyboard-interactive"},
	} {
		k.Account(policy, "-sign-in-by", policy)
		key := k.Key(policy)
		for _, methods := range []string{keyOnly, passwordOnly, questionOnly, usual, "publickey,password", "publickey,keyboard-interactive"} {
			want := false
			for _, way := range opens {
				want = want || way == methods || way == usual && policy != "both" || way == keyOnly && strings.HasPrefix(methods, keyOnly) ||
					way == passwordOnly && strings.HasSuffix(methods, passwordOnly) || way == questionOnly && strings.HasSuffix(methods, questionOnly)
			}
			if policy == "key" && !strings.HasPrefix(methods, keyOnly) || policy == "password" && methods == keyOnly {
				want = false
			}
			assert.Equal(t, want, k.SFTPWith(policy, key, "-o", "PreferredAuthentications="+methods), "%s with %s", policy, methods)
		}
	}
	assert.False(t, k.SFTPWith("both", testkit.NewPair(t)), "the password alone, after a wrong key")
	out, err := k.Curl("both", "ftps", "/")
	assert.Error(t, err)
	assert.Contains(t, out, "530")
	var found []api.AuditRecord
	k.Must(&found, "audit", "-account", "both", "-action", "sign-in", "-outcome", "done", "-most", "1")
	assert.Contains(t, found[0].Detail, "key and password")
	k.Must(&found, "audit", "-account", "both", "-action", "sign-in", "-outcome", "refused")
	said := fmt.Sprint(found)
	for _, why := range []string{"no key was proved before", "a good key, but no password after it", "not one of the account's"} {
		assert.Contains(t, said, why)
	}
	k.Must(nil, "account", "set", "either", "-sign-in-by", "key")
	assert.False(t, k.SFTPWith("either", ""))
	_, errs, status := k.CLI("account", "set", "either", "-sign-in-by", "luck")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "use either, password, key or both")
}

func TestAKeyWorksWhereAndUntilItMay(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	near, far := testkit.NewPair(t), testkit.NewPair(t)
	text := "# ann's keys\nfrom=\"127.0.0.0/8\" " + string(testkit.OnDisk(t, near+".pub")) + "from=\"192.0.2.0/24\",expiry-time=\"20990101Z\" " + string(testkit.OnDisk(t, far+".pub"))
	out, errs, status := k.CLIWith(text, "key", "add", "ann", "-")
	require.Zero(t, status, errs)
	assert.Contains(t, out, ", until 2099-01-01 00:00:00 UTC, from 192.0.2.0/24 only")
	_, err := k.SFTP("ann", near, "ls")
	assert.NoError(t, err)
	_, err = k.SFTP("ann", far, "ls")
	assert.Error(t, err)
	var keys []api.Key
	k.Must(&keys, "key", "list", "ann")
	require.Len(t, keys, 2)
	assert.NotNil(t, keys[0].LastUsed)
	k.Must(nil, "key", "set", "ann", keys[1].Fingerprint, "-from", "everybody", "-expires", "never")
	_, err = k.SFTP("ann", far, "ls")
	assert.NoError(t, err)
	k.Must(nil, "key", "set", "ann", keys[0].Fingerprint, "-expires", "2020-01-01", "-label", "old laptop")
	_, err = k.SFTP("ann", near, "ls")
	assert.Error(t, err)
	assert.Contains(t, k.Must(nil, "key", "list", "ann"), "(expired)")
	_, errs, status = k.CLI("key", "add", "ann", testkit.NewPair(t)+".pub", "-expires", "2020-01-01")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "it is in the past already")
	_, errs, status = k.CLI("key", "add", "ann", near+".pub", "-from", "example.org")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "no address or network")

	tested := k.Must(nil, "key", "test", near+".pub")
	assert.Contains(t, tested, "opens ann")
	assert.Contains(t, k.Must(nil, "key", "test", testkit.NewPair(t)+".pub"), "opens no account yet")
	_, errs, _ = k.CLI("key", "test", near)
	assert.Contains(t, errs, "PRIVATE key")
}

func TestAKeyPairIsMadeHandedOutOnceAndWorks(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	file := filepath.Join(t.TempDir(), "ann.key")
	for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
		out := k.Must(nil, "key", "make", "ann", "-type", kind, "-out", file+kind)
		assert.Contains(t, out, "nowhere else")
		out, err := k.SFTP("ann", file+kind, "ls")
		assert.NoError(t, err, out)
		info, err := os.Stat(file + kind)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode())
	}
	_, errs, status := k.CLI("key", "make", "ann", "-out", file+"rsa")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "choose another with -out")
	_, errs, status = k.CLI("key", "make", "nobody", "-out", file)
	assert.Equal(t, 1, status, errs)
	assert.NoFileExists(t, file)
	_, errs, status = k.CLIWith("open, please\n", "key", "make", "ann", "-passphrase", "-out", file)
	require.Zero(t, status, errs)
	testkit.Keygen(t, "-y", "-P", "open, please", "-f", file)
	var keys []api.Key
	k.Must(&keys, "key", "list", "ann")
	assert.Len(t, keys, 4)
	for _, name := range []string{"urbankeep.db", "urbankeep.db-wal"} {
		if text, err := os.ReadFile(filepath.Join(k.Dir, name)); err == nil {
			assert.NotContains(t, string(text), "PRIVATE KEY")
		}
	}
}

func TestRemovingAKeyEndsTheSessionsItOpened(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	byKey, byPassword := k.Key("ann"), sftptalk.Dial(t, k, "ann")
	client := sftptalk.SSHWithKey(t, k, "ann", byKey)
	ended := make(chan struct{})
	go func() { client.Wait(); close(ended) }()
	k.Must(nil, "key", "remove", "ann", "1")
	select {
	case <-ended:
	case <-time.After(testkit.Patience):
		t.Fatal("the session goes on")
	}
	kind, _ := byPassword.Ask(16, sftptalk.Str("."))
	assert.EqualValues(t, 104, kind, "the one by password is left alone")
}

// A key on the shelf opens the accounts that it is attached to; what takes its place opens all of them, and nothing else does.
func TestAKeyOnTheShelfOpensAllThatHaveIt(t *testing.T) {
	k := testkit.Start(t)
	for _, name := range []string{"ann", "ben", "eve"} {
		k.Account(name)
	}
	first, second := testkit.NewPair(t), testkit.NewPair(t)
	k.Must(nil, "shelf", "add", "bureau", first+".pub", "-owner", "print bureau, Maren", "-note", "the big plotter")
	opens := func(key string) (found []string) {
		for _, name := range []string{"ann", "ben", "eve"} {
			if _, err := k.SFTP(name, key, "pwd"); err == nil {
				found = append(found, name)
			}
		}
		return found
	}
	assert.Empty(t, opens(first))
	k.Must(nil, "shelf", "attach", "bureau", "ann", "ben")
	assert.Equal(t, []string{"ann", "ben"}, opens(first))
	var shelf []api.ShelfKey
	k.Must(&shelf, "shelf", "list")
	require.Len(t, shelf, 1)
	assert.Equal(t, []string{"ann", "ben"}, shelf[0].Accounts)
	assert.NotNil(t, shelf[0].LastUsed)
	assert.Contains(t, k.Must(nil, "key", "list", "ann"), "from the shelf")
	assert.Contains(t, k.Must(nil, "report", "keys"), "from the shelf, shared with the account ben")

	// All or none; no key twice, neither on the shelf nor with an account.
	assert.Contains(t, k.Refused("shelf", "attach", "bureau", "eve", "nobody"), "nobody")
	assert.Equal(t, []string{"ann", "ben"}, opens(first))
	k.Must(nil, "key", "add", "eve", second+".pub")
	for _, wrong := range []struct {
		why  string
		args []string
	}{
		{"on the shelf already, as bureau", []string{"shelf", "add", "other", first + ".pub"}},
		{"taken", []string{"shelf", "add", "Bureau", second + ".pub"}},
		{"has that key already", []string{"shelf", "attach", "bureau", "ann"}},
		{"has this key already", []string{"key", "add", "eve", first + ".pub"}},
		{"attached to 2 accounts", []string{"shelf", "remove", "bureau"}},
		{"on the shelf, as bureau", []string{"key", "set", "ann", shelf[0].Fingerprint, "-label", "x"}},
		{"PRIVATE", []string{"shelf", "set", "bureau", "-key", first}},
		{"in the past", []string{"shelf", "set", "bureau", "-expires", "2020-01-01"}},
	} {
		assert.Contains(t, k.Refused(wrong.args...), wrong.why, "%v", wrong.args)
	}

	// Another key takes its place at once, and what the one before signed in ends.
	client := sftptalk.SSHWithKey(t, k, "ben", first)
	ended := make(chan struct{})
	go func() { client.Wait(); close(ended) }()
	third := testkit.NewPair(t)
	k.Must(nil, "shelf", "set", "bureau", "-key", third+".pub")
	select {
	case <-ended:
	case <-time.After(testkit.Patience):
		t.Fatal("the session goes on")
	}
	assert.Empty(t, opens(first))
	assert.Equal(t, []string{"ann", "ben"}, opens(third))
	var changes []api.AuditRecord
	k.Must(&changes, "audit", "-action", "shelf-set")
	assert.Contains(t, changes[0].Detail, "attached to 2 accounts")

	// Rules hold for all; an account loses it alone, and who is deleted leaves it to the others.
	k.Must(nil, "shelf", "set", "bureau", "-from", "192.0.2.0/24")
	assert.Empty(t, opens(third))
	k.Must(nil, "shelf", "set", "bureau", "-from", "everybody", "-expires", "+1d")
	k.Must(nil, "shelf", "detach", "bureau", "ann")
	assert.Equal(t, []string{"ben"}, opens(third))
	k.Must(&shelf, "shelf", "list")
	k.Must(nil, "key", "remove", "ben", shelf[0].Fingerprint)
	assert.Empty(t, opens(third))
	k.Must(nil, "shelf", "attach", "bureau", "ann", "ben")
	k.Must(nil, "account", "delete", "ben")
	k.Must(nil, "shelf", "detach", "bureau", "ann")
	k.Must(nil, "shelf", "remove", "bureau")
	assert.Equal(t, []string{"eve"}, opens(second))
}

func TestUserCertificatesOfATrustedAuthority(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-sign-in-by", "key")
	k.Account("ben")
	authority, stranger, user := testkit.NewPair(t), testkit.NewPair(t), testkit.NewPair(t)
	k.Must(nil, "key", "add", "ann", authority+".pub", "-authority", "-label", "the office's")
	k.Must(nil, "key", "add", "ben", authority+".pub", "-authority")
	sign := func(by string, args ...string) string {
		testkit.Keygen(t, append(append([]string{"-q", "-s", by, "-I", "ann of the survey", "-z", "7"}, args...), user+".pub")...)
		return user + "-cert.pub"
	}
	for _, c := range []struct {
		what, by string
		args     []string
		account  string
		in       bool
	}{
		{"good", authority, []string{"-n", "ann", "-V", "+1h"}, "ann", true},
		{"good for one of two names", authority, []string{"-n", "x,ann", "-O", "source-address=127.0.0.1/32"}, "ann", true},
		{"another's", authority, []string{"-n", "ann", "-V", "+1h"}, "ben", false},
		{"without a name", authority, []string{"-V", "+1h"}, "ann", false},
		{"expired", authority, []string{"-n", "ann", "-V", "20200101:20210101"}, "ann", false},
		{"not yet valid", authority, []string{"-n", "ann", "-V", "+1h:+2h"}, "ann", false},
		{"from elsewhere", authority, []string{"-n", "ann", "-O", "source-address=192.0.2.0/24"}, "ann", false},
		{"with a command forced", authority, []string{"-n", "ann", "-O", "force-command=date"}, "ann", false},
		{"of a stranger", stranger, []string{"-n", "ann"}, "ann", false},
		{"of a host", authority, []string{"-n", "ann", "-h"}, "ann", false},
	} {
		certificate := sign(c.by, c.args...)
		assert.Equal(t, c.in, k.SFTPWith(c.account, user, "-o", "CertificateFile="+certificate, "-o", "PreferredAuthentications=publickey"), c.what)
	}
	out, err := k.SFTP("ann", authority, "ls")
	assert.Error(t, err, "the authority's own key opens nothing: %s", out)
	var found []api.AuditRecord
	k.Must(&found, "audit", "-account", "ann", "-action", "sign-in", "-outcome", "done")
	require.Len(t, found, 2)
	assert.Contains(t, found[0].Detail, `certificate "ann of the survey", serial 7, for the key SHA256:`)
	_, errs, status := k.CLIWith(string(testkit.OnDisk(t, user+"-cert.pub")), "key", "add", "ann", "-")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "this is a certificate, not a key")
}

func TestHostKeysAreReplacedWithoutAWarning(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	key := k.Key("ann")
	_, port, _ := net.SplitHostPort(k.Address("sftp"))
	knows := func(file string, lines ...string) string {
		path := filepath.Join(t.TempDir(), file)
		require.NoError(t, os.WriteFile(path, []byte("[127.0.0.1]:"+port+" "+strings.Join(lines, "\n")+"\n"), 0o600))
		return path
	}
	connect := func(known string, strict string) error {
		out, err := testkit.Run(t, "pwd\n", "sftp", "-b", "-", "-P", port, "-i", key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking="+strict,
			"-o", "UpdateHostKeys=yes", "-o", "UserKnownHostsFile="+known, "ann@127.0.0.1")
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	}
	// A session as short as these may end before the client has been told of the keys: it comes again.
	learns := func(known, say string, learnt func(text string) bool) {
		require.Eventually(t, func() bool {
			require.NoError(t, connect(known, "yes"))
			return learnt(string(testkit.OnDisk(t, known)))
		}, testkit.Patience, time.Millisecond, say)
	}
	state := func() map[string]api.HostKey {
		var keys []api.HostKey
		k.Must(&keys, "hostkey", "list")
		found := map[string]api.HostKey{}
		for _, key := range keys {
			found[key.State+" "+key.Type] = key
		}
		return found
	}
	first := state()["in-use ssh-ed25519"]
	learner, sleeper := knows("learner", first.Line), knows("sleeper", first.Line)
	rsa := strings.Fields(state()["in-use ssh-rsa"].Line)[1]
	learns(learner, "the other types were learnt", func(text string) bool { return strings.Contains(text, rsa) })
	k.Must(nil, "hostkey", "make", "ed25519")
	next := state()["announced ssh-ed25519"]
	learns(learner, "the announced one was learnt", func(text string) bool { return strings.Contains(text, strings.Fields(next.Line)[1]) })
	k.Must(nil, "hostkey", "use", next.ID)
	assert.Equal(t, next.Fingerprint, state()["in-use ssh-ed25519"].Fingerprint)
	assert.Equal(t, first.Fingerprint, state()["retired ssh-ed25519"].Fingerprint)
	learns(learner, "the old one was forgotten", func(text string) bool { return !strings.Contains(text, strings.Fields(first.Line)[1]) })
	assert.ErrorContains(t, connect(sleeper, "yes"), "HOST IDENTIFICATION HAS CHANGED", "who did not come in between is warned")

	k.Must(nil, "hostkey", "remove", first.Fingerprint)
	imported := testkit.NewPair(t, "-N", "sesame")
	_, errs, status := k.CLI("hostkey", "import", imported)
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "the key is encrypted: give its passphrase")
	_, errs, status = k.CLIWith("wrong\n", "hostkey", "import", imported, "-passphrase")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "it does not open the key")
	_, errs, status = k.CLIWith("sesame\n", "hostkey", "import", imported, "-passphrase")
	require.Zero(t, status, errs)
	_, errs, status = k.CLI("hostkey", "import", imported+".pub")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "not a private key in PEM form")
	public := strings.Fields(string(testkit.OnDisk(t, imported+".pub")))[1]
	assert.Contains(t, state()["announced ssh-ed25519"].Line, public)
	k.Must(nil, "hostkey", "use", state()["announced ssh-ed25519"].ID)
	require.NoError(t, connect(knows("importer", "ssh-ed25519 "+public), "yes"))
	k.Must(nil, "hostkey", "remove", "-meant", state()["in-use ssh-rsa"].ID)
	k.Must(nil, "hostkey", "remove", "-meant", state()["in-use ecdsa-sha2-nistp256"].ID)
	_, errs, status = k.CLI("hostkey", "remove", "-meant", state()["in-use ssh-ed25519"].ID)
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "it is the only host key in use")
	var found []api.AuditRecord
	k.Must(&found, "audit", "-action", "host-key-use")
	assert.Len(t, found, 2)
}

func TestHostKeysAreToldAsOtherToolsTellThem(t *testing.T) {
	k := testkit.Start(t)
	var keys []api.HostKey
	k.Must(&keys, "hostkey", "list")
	require.Len(t, keys, 3)
	for _, key := range keys {
		file := filepath.Join(t.TempDir(), "host.pub")
		require.NoError(t, os.WriteFile(file, []byte(key.Line+"\n"), 0o600))
		out, err := testkit.Run(t, "", "ssh-keygen", "-l", "-f", file)
		require.NoError(t, err, out)
		assert.Contains(t, out, key.Fingerprint)
		out, err = testkit.Run(t, "", "ssh-keygen", "-r", "keep.example", "-f", file)
		require.NoError(t, err, out)
		assert.Contains(t, out, "keep.example IN SSHFP "+key.SSHFP+"\n")
	}
	assert.Contains(t, k.Must(nil, "hostkey", "list"), "IN SSHFP 4 2 ")
}

func TestKeysAreCheckedBeforeTheyAreTaken(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("ben")
	file := k.Key("ann")
	public := strings.TrimSpace(string(testkit.OnDisk(t, file+".pub")))
	_, errs, status := k.CLI("key", "add", "ben", file)
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "this is a PRIVATE key; it was not stored")
	_, errs, status = k.CLIWith(public[:40]+"\r\n  "+public[40:70]+"\n"+public[70:], "key", "add", "ben", "-")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "the account ann has this key already", "the broken lines were mended")
	k.Must(nil, "key", "add", "ben", file+".pub", "-shared")
	for _, form := range []string{"RFC4716", "PKCS8", "PEM"} { // as the real tool writes them
		pair := filepath.Join(t.TempDir(), "pair")
		out, err := testkit.Run(t, "", "ssh-keygen", "-q", "-t", "rsa", "-b", "2048", "-N", "", "-C", "a comment", "-f", pair)
		require.NoError(t, err, out)
		text, err := testkit.Run(t, "", "ssh-keygen", "-e", "-m", form, "-f", pair+".pub")
		require.NoError(t, err, text)
		_, errs, status := k.CLIWith(text, "key", "add", "ann", "-")
		require.Zero(t, status, "%s: %s", form, errs)
		out, err = k.SFTP("ann", pair, "ls")
		assert.NoError(t, err, "%s: %s", form, out)
		_, errs, status = k.CLIWith(text[:len(text)/2], "key", "add", "ann", "-")
		assert.Equal(t, 1, status)
		assert.Contains(t, errs, "copy it again whole")
	}
	_, errs, status = k.CLIWith(testkit.NewPublic(t)+"\n"+public, "key", "add", "ann", "-")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "line 3: the account has the key", "one of several was there before")
	assert.Contains(t, errs, "none of the 2 keys was added")
	weak := filepath.Join(t.TempDir(), "weak")
	out, err := testkit.Run(t, "", "ssh-keygen", "-q", "-t", "rsa", "-b", "1024", "-N", "", "-f", weak)
	require.NoError(t, err, out)
	for text, say := range map[string]string{string(testkit.OnDisk(t, weak+".pub")): "1024 bits is too weak", "ssh-ed25519 AAAA": "damaged or cut short", "hello": "not a public key"} {
		_, errs, status = k.CLIWith(text, "key", "add", "ben", "-")
		assert.Equal(t, 1, status)
		assert.Contains(t, errs, say)
	}
	var keys []api.Key
	k.Must(&keys, "key", "list", "ben")
	require.Len(t, keys, 1)
	assert.Equal(t, "ann@test", keys[0].Label)
	k.Must(nil, "key", "remove", "ben", fmt.Sprint(keys[0].ID))
	out, err = k.SFTP("ben", file, "ls")
	assert.Error(t, err, out)
	out, err = k.SFTP("ann", file, "ls")
	assert.NoError(t, err, out)
}
