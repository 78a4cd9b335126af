package clients_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// scp runs the real client with its old protocol.
func scp(k *testkit.Keep, t *testing.T, key string, args ...string) (string, error) {
	options := k.SSHOptions(key)
	return testkit.Run(t, "", "scp", append(append([]string{"-O"}, options[1:]...), args...)...) // without -q, which hides what is refused
}

func TestTheOldCopyProtocolWithTheRealClient(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=full", "-grant", "/drop=drop-only", "-grant", "/read=read-only", "-mount", "/small=files:small,bytes=1MiB", "-max-upload", "200MiB")
	key := k.Key("ann")
	dir := t.TempDir()
	file, content := testkit.File(t, 3_000_017)

	// Nobody speaks it who was not told to be able to, and that is said where its user sees it.
	out, err := scp(k, t, key, file, "ann@127.0.0.1:")
	assert.Error(t, err)
	assert.Contains(t, out, "scp: the account may not use scp: use sftp, or scp without -O")
	k.Must(nil, "account", "set", "ann", "-protocols", "all,scp")

	// There and back, with times and modes.
	when := time.Date(2019, 3, 4, 5, 6, 7, 0, time.UTC)
	require.NoError(t, os.Chmod(file, 0o604))
	require.NoError(t, os.Chtimes(file, when, when))
	out, err = scp(k, t, key, "-p", file, "ann@127.0.0.1:plan.las")
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "plan.las")))
	info, err := os.Stat(filepath.Join(k.Home("ann"), "plan.las"))
	require.NoError(t, err)
	assert.Equal(t, when, info.ModTime().UTC())
	back := filepath.Join(dir, "back.las")
	out, err = scp(k, t, key, "-p", "ann@127.0.0.1:plan.las", back)
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, back))
	info, err = os.Stat(back)
	require.NoError(t, err)
	assert.Equal(t, when, info.ModTime().UTC())

	// Folders with all that is in them, and names of all kinds.
	many := filepath.Join(dir, "many")
	names := []string{"a b", "ümlaut", "it's", "-dash", ".dot", "star*", "[x]", "tab\there", "$HOME", "`id`", "back\\slash", `"quoted"`, "sub/deep/er/f", "sub/empty"}
	for n := range 2000 {
		names = append(names, fmt.Sprintf("n%02d/f%04d", n%20, n))
	}
	for _, name := range names {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(many, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(many, name), []byte("content of "+name), 0o644))
	}
	out, err = scp(k, t, key, "-r", many, "ann@127.0.0.1:/")
	require.NoError(t, err, out)
	again := filepath.Join(dir, "again")
	out, err = scp(k, t, key, "-r", "ann@127.0.0.1:many", again)
	require.NoError(t, err, out)
	for _, name := range names {
		for _, at := range []string{filepath.Join(k.Home("ann"), "many"), again} {
			assert.Equal(t, "content of "+name, string(testkit.OnDisk(t, filepath.Join(at, name))), name)
		}
	}
	picked := filepath.Join(dir, "picked")
	require.NoError(t, os.Mkdir(picked, 0o755))
	out, err = scp(k, t, key, "ann@127.0.0.1:many/n0[12]/f000?", picked)
	require.NoError(t, err, out)
	entries, err := os.ReadDir(picked)
	require.NoError(t, err)
	assert.Len(t, entries, 2, "f0001 and f0002")

	// What may not be is refused in words, and nothing of it is there.
	for _, refused := range []struct {
		args []string
		say  string
	}{
		{[]string{file, "ann@127.0.0.1:read/x"}, "upload"},
		{[]string{file, "ann@127.0.0.1:small/x"}, "quota"},
		{[]string{"ann@127.0.0.1:nosuch", dir}, "no such file"},
		{[]string{"ann@127.0.0.1:many", dir}, "give -r"},
		{[]string{"ann@127.0.0.1:drop/x", dir}, "x: "},
		{[]string{file, back, "ann@127.0.0.1:plan.las"}, "not a folder"},
		{[]string{file, "ann@127.0.0.1:nosuch/x"}, "no such"},
	} {
		out, err := scp(k, t, key, refused.args...)
		assert.Error(t, err, refused.args)
		assert.Contains(t, out, refused.say, refused.args)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(k.Home("ann"), "drop"), 0o750))
	out, err = scp(k, t, key, back, "ann@127.0.0.1:drop")
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "drop", "back.las")))
	assert.NoFileExists(t, filepath.Join(k.Dir, "files", "small", "x"))

	// A client that is killed in the middle: nobody takes what came for the whole.
	large, _ := testkit.File(t, 40_000_000)
	options := k.SSHOptions(key)
	cut := exec.Command("scp", append(append([]string{"-O", "-l", "20000"}, options...), large, "ann@127.0.0.1:cut")...)
	require.NoError(t, cut.Start())
	require.Eventually(t, func() bool {
		return slices.ContainsFunc(k.Transfers("-account", "ann"), func(one api.Transfer) bool { return one.Path == "/cut" })
	}, testkit.Patience, 20*time.Millisecond)
	cut.Process.Kill()
	cut.Wait()
	var records []api.AuditRecord
	require.Eventually(t, func() bool {
		k.Must(&records, "audit", "-account", "ann", "-action", "upload", "-path", "/cut")
		return len(records) == 1
	}, testkit.Patience, 50*time.Millisecond)
	assert.Equal(t, "interrupted", string(records[0].Outcome))
	assert.Equal(t, "scp", string(records[0].Protocol))

	k.Must(nil, "account", "set", "ann", "-protocols", "scp")
	out, err = scp(k, t, key, back, "ann@127.0.0.1:last")
	require.NoError(t, err, out)
	_, err = k.SFTP("ann", key, "pwd")
	assert.Error(t, err, "scp alone was allowed")
}

func TestTheOldCopyProtocolWithOtherClients(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-protocols", "all,scp")
	_, port, _ := net.SplitHostPort(k.Address("sftp"))
	out, err := testkit.Run(t, "", "/usr/bin/python3", "scripts/scp_by_hand.py", "127.0.0.1", port, "ann", testkit.Password)
	require.NoError(t, err, out)
	assert.Contains(t, out, `got b'C0640 11 from python\n' b'from python\x00' status 0`)
	assert.Contains(t, out, "refused b'\\x01scp: ../above: a name without slashes is sent here")

	file, content := testkit.File(t, 1_000_003)
	home := t.TempDir()
	pscp := func(args ...string) (string, error) {
		return testkit.Run(t, "y\n", "env", append([]string{"HOME=" + home, "pscp", "-scp", "-P", port, "-pw", testkit.Password, "-hostkey", hostKeyOf(t, k), "-batch"}, args...)...)
	}
	out, err = pscp("-p", file, "ann@127.0.0.1:\"by putty.las\"")
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "by putty.las")))
	out, err = pscp(file, "ann@127.0.0.1:by putty.las")
	assert.Error(t, err)
	assert.Contains(t, out, "put a name with blanks into quotes")
	out, err = pscp("-unsafe", "ann@127.0.0.1:by*", home)
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(home, "by putty.las")))
	out, err = pscp("ann@127.0.0.1:nosuch", home)
	assert.Error(t, err)
	assert.Contains(t, strings.ToLower(out), "no such file")
}
