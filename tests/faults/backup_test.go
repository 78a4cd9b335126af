package faults_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
)

// restore runs the command as the program does.
func restore(t *testing.T, args ...string) (out, errs string, status int) {
	var said, wrong bytes.Buffer
	status = command.Main(t.Context(), command.Env{In: strings.NewReader(""), Out: &said, Err: &wrong}, []*command.Command{service.RestoreCommand()}, append([]string{"restore"}, args...))
	return said.String(), wrong.String(), status
}

func TestARestoredServiceAnswersAsTheOneThatWasBackedUp(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("ilse", "owner")
	k.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "add-only", "-quota-bytes", "1M")
	_, errs, status := k.CLIWith(testkit.Password+"\n", "account", "add", "ann", "-password", "-group", "crews")
	require.Zero(t, status, errs)
	key := k.Key("ann")
	file, content := testkit.File(t, 3000)
	out, err := k.Curl("ann", "ftps", "/f", "-T", file)
	require.NoError(t, err, out)
	_, err = k.Curl("ann", "ftps", "/f", "-T", file)
	require.Error(t, err)
	k.Must(nil, "gate", "set", "-deny", "203.0.113.0/24")

	dir := t.TempDir()
	plain, locked, secret := filepath.Join(dir, "plain.tar.gz"), filepath.Join(dir, "locked.age"), filepath.Join(dir, "identity")
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(secret, []byte(identity.String()+"\n"), 0o600))
	explained, _, _ := k.CLI("explain", "ann", "delete", "/f")
	keys, shown := k.Must(nil, "hostkey", "list"), k.Must(nil, "account", "show", "ann")
	k.Must(nil, "backup", plain)
	k.Must(nil, "backup", locked, "-recipient", identity.Recipient().String())
	var before []api.AuditRecord
	k.Must(&before, "audit", "-most", "1000")
	_, err = os.Stat(plain + ".part")
	assert.ErrorIs(t, err, os.ErrNotExist)
	listed, err := exec.Command("tar", "-tzf", plain).CombinedOutput() // an open format
	require.NoError(t, err, string(listed))
	assert.Contains(t, string(listed), "urbankeep.db\nmanifest.json\n")

	assert.Contains(t, mustFail(t, plain, "-data", k.Dir, "-replace"), "in use by a running urbankeep")
	looked, wrong, ended := restore(t, plain, "-data", k.Dir, "-check")
	assert.Zero(t, ended, wrong)
	assert.Contains(t, looked, "it can be restored; nothing was changed", "while the service runs")
	k.Halt(5 * time.Second)
	assert.Contains(t, mustFail(t, plain, "-data", k.Dir), "holds a data folder already")
	fresh := filepath.Join(testkit.Folder(t), "keep")
	assert.Contains(t, mustFail(t, locked, "-data", fresh), "the backup is encrypted")
	stranger, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stranger"), []byte(stranger.String()), 0o600))
	assert.Contains(t, mustFail(t, locked, "-data", fresh, "-identity", filepath.Join(dir, "stranger")), "can't be decrypted")
	said, errs, status := restore(t, locked, "-data", fresh, "-identity", secret, "-check")
	require.Zero(t, status, errs)
	assert.Contains(t, said, "nothing was changed")
	assert.NoDirExists(t, fresh)
	said, errs, status = restore(t, locked, "-data", fresh, "-identity", secret, "-store", "files="+filepath.Join(k.Dir, "files"))
	require.Zero(t, status, errs)
	assert.Contains(t, said, "1 accounts")

	again := testkit.StartIn(t, fresh)
	out, err = again.Curl("ann", "ftps", "/f")
	require.NoError(t, err)
	assert.Equal(t, string(content), out)
	out, err = again.SFTP("ann", key, "ls")
	assert.NoError(t, err, out)
	_, err = again.Curl("ann", "ftps", "/f", "-T", file)
	assert.Error(t, err, "add-only still")
	testkit.SignedIn(t, again, "ilse").Call("GET", "/me", nil, 200, nil)
	explainedNow, _, _ := again.CLI("explain", "ann", "delete", "/f")
	assert.Equal(t, explained, explainedNow)
	assert.Equal(t, keys, again.Must(nil, "hostkey", "list"))
	assert.Equal(t, withoutTimes(shown), withoutTimes(again.Must(nil, "account", "show", "ann")))
	assert.Contains(t, again.Must(nil, "gate", "show"), "203.0.113.0/24")
	var after []api.AuditRecord
	again.Must(&after, "audit", "-most", "1000")
	// The backup holds what was recorded before it: all but what its own end recorded.
	assert.Equal(t, before, after[len(after)-len(before):])
	again.Must(nil, "audit", "verify")

	// A folder that is there is moved aside, its stores stay where they are.
	root := os.Geteuid() == 0
	if root { // for the user of the service, to whom the folder belongs
		require.NoError(t, os.Chown(k.Dir, 65534, 65534))
	}
	said, errs, status = restore(t, plain, "-data", k.Dir, "-replace")
	require.Zero(t, status, errs)
	for _, name := range []string{"urbankeep.db", "urbankeep.lock", "hostkeys", "audit.key"} {
		out, err := exec.Command("find", filepath.Join(k.Dir, name), "!", "-uid", "65534").CombinedOutput()
		require.NoError(t, err)
		assert.True(t, !root || len(out) == 0, "%s", out)
	}
	assert.Contains(t, said, "what was there before is in")
	assert.FileExists(t, filepath.Join(k.Dir, "files", "ann", "f"))
	aside, err := filepath.Glob(filepath.Join(k.Dir, "before-*", "urbankeep.db"))
	require.NoError(t, err)
	assert.Len(t, aside, 1)
	third := testkit.StartIn(t, k.Dir)
	out, err = third.Curl("ann", "ftps", "/f")
	require.NoError(t, err)
	assert.Equal(t, string(content), out)
}

// withoutTimes leaves out the lines about the last sign-in.
func withoutTimes(text string) string {
	var kept []string
	for line := range strings.Lines(text) {
		if !strings.Contains(line, "sign-in") && !strings.Contains(line, "used") {
			kept = append(kept, line)
		}
	}
	return strings.Join(kept, "")
}

func mustFail(t *testing.T, args ...string) string {
	t.Helper()
	_, errs, status := restore(t, args...)
	assert.NotZero(t, status)
	return errs
}

func TestABackupIsLockedWithAPassphrase(t *testing.T) {
	k, binary := testkit.Start(t), testkit.Binary(t) // which derives keys faster than a test program that looks for races
	dir := t.TempDir()
	locked, right, wrong := filepath.Join(dir, "b.age"), filepath.Join(dir, "right"), filepath.Join(dir, "wrong")
	require.NoError(t, os.WriteFile(right, []byte("port selwyn, at low tide\n"), 0o600))
	require.NoError(t, os.WriteFile(wrong, []byte("port selwyn, at high tide\n"), 0o600))
	out, err := testkit.Run(t, "", binary, "backup", locked, "-passphrase-file", right, "-data", k.Dir)
	require.NoError(t, err, out)
	text, err := os.ReadFile(locked)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(text, []byte("age-encryption.org/v1")))
	target := filepath.Join(dir, "keep")
	out, err = testkit.Run(t, "", binary, "restore", locked, "-check", "-passphrase-file", right, "-data", target)
	assert.NoError(t, err, out)
	out, err = testkit.Run(t, "", binary, "restore", locked, "-passphrase-file", wrong, "-data", target)
	assert.Error(t, err)
	assert.Contains(t, out, "can't be decrypted")
	assert.NoDirExists(t, target)
}

func TestADamagedBackupTouchesNothing(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	dir := t.TempDir()
	plain := filepath.Join(dir, "b.tar.gz")
	k.Must(nil, "backup", plain)
	assert.Contains(t, k.Refused("backup", plain), "add -replace")
	k.Must(nil, "backup", plain, "-replace")
	text, err := os.ReadFile(plain)
	require.NoError(t, err)
	unpacked := t.TempDir()
	out, err := exec.Command("tar", "-xzf", plain, "-C", unpacked).CombinedOutput()
	require.NoError(t, err, string(out))
	packed := func(name string, spoil func(), more ...string) []byte {
		spoil()
		file := filepath.Join(dir, name)
		out, err := exec.Command("tar", append([]string{"-czf", file, "-C", unpacked, "hostkeys", "tls", "audit.key", "urbankeep.db", "manifest.json"}, more...)...).CombinedOutput()
		require.NoError(t, err, string(out))
		made, err := os.ReadFile(file)
		require.NoError(t, err)
		return made
	}
	for name, bad := range map[string][]byte{
		"half":     text[:len(text)/2],
		"no end":   text[:len(text)-20],
		"changed":  append(bytes.Clone(text[:len(text)/2]), append([]byte{text[len(text)/2] ^ 1}, text[len(text)/2+1:]...)...),
		"nonsense": []byte("not a backup"),
		"empty":    nil,
		"swapped":  packed("swapped", func() { require.NoError(t, os.WriteFile(filepath.Join(unpacked, "audit.key"), []byte("mine"), 0o600)) }),
		"stranger": packed("stranger", func() { require.NoError(t, os.WriteFile(filepath.Join(unpacked, "evil"), nil, 0o600)) }, "evil"),
	} {
		file := filepath.Join(dir, "bad")
		require.NoError(t, os.WriteFile(file, bad, 0o600))
		target := filepath.Join(t.TempDir(), "keep")
		assert.NotEmpty(t, mustFail(t, file, "-data", target), name)
		assert.NoDirExists(t, target, name)
	}
}

// A small file that unpacks to very much is refused before it has filled the disk.
func TestABackupThatUnpacksWithoutEndIsRefused(t *testing.T) {
	t.Parallel()
	disk := small(t, "size=400m")
	file := filepath.Join(t.TempDir(), "bomb.tar.gz")
	out, err := os.Create(file)
	require.NoError(t, err)
	// Members of a gzip file that follow each other are one text: one MiB of zeros is packed once.
	packed := func(text []byte) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		w.Write(text)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	const size = 1 << 30
	var head bytes.Buffer
	require.NoError(t, tar.NewWriter(&head).WriteHeader(&tar.Header{Name: "urbankeep.db", Mode: 0o600, Size: size, Typeflag: tar.TypeReg}))
	zeros := make([]byte, 1<<20)
	bomb := append(packed(head.Bytes()), bytes.Repeat(packed(zeros), size/len(zeros))...)
	_, err = out.Write(bomb)
	require.NoError(t, errors.Join(err, out.Close()))
	said := mustFail(t, file, "-data", filepath.Join(disk, "data"))
	assert.Contains(t, said, "more comes out of it than any backup holds")
	assert.NoDirExists(t, filepath.Join(disk, "data"))
}
