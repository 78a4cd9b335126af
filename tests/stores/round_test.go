// Package stores_test drives real clients against stores of every kind.
package stores_test

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// round has real clients do what people do, on an account whose home is in a store.
func round(t *testing.T, k *testkit.Keep, store string) {
	var tried api.StoreCheck
	k.Must(&tried, "store", "check", store)
	assert.True(t, tried.Fine)
	k.Account("ann", "-home", store+":crews/ann", "-quota-bytes", "500M")
	key := k.Key("ann")
	t.Run("sftp", func(t *testing.T) { bySFTP(t, k, key) })
	t.Run("curl", func(t *testing.T) { byCurl(t, k) })
	t.Run("lftp", func(t *testing.T) { byLFTP(t, k) })
	t.Run("mount", func(t *testing.T) { byMount(t, k, key) })
	var recounted api.Recount
	k.Must(&recounted, "quota", "recount", store+":crews/ann")
	assert.Equal(t, recounted.BytesNow, recounted.BytesBefore, "the books are right")
	assert.Equal(t, recounted.FilesNow, recounted.FilesBefore)
	assert.Positive(t, recounted.BytesNow)
}

func bySFTP(t *testing.T, k *testkit.Keep, key string) {
	file, content := testkit.File(t, 9_000_001)
	back := filepath.Join(t.TempDir(), "back")
	part := filepath.Join(t.TempDir(), "part")
	require.NoError(t, os.WriteFile(part, content[:3_000_000], 0o600))
	out, err := k.SFTP("ann", key, "mkdir in", "put "+file+" in/scan", "put "+part+" in/part", "reput "+file+" in/part", "put -f "+file+" in/synced", "put -p "+file+" in/kept",
		"rename in/scan in/plan", "ls -l in", "get in/plan "+back, "get in/part "+back+"2", "get in/synced "+back+"3")
	require.NoError(t, err, out)
	assert.Contains(t, out, "9000001")
	for _, one := range []string{"", "2", "3"} {
		assert.True(t, bytes.Equal(content, testkit.OnDisk(t, back+one)), one)
	}
	out, err = k.SFTP("ann", key, "copy in/plan in/copy", "get in/copy "+back+"4", "rm in/copy", "rename in sub", "ls sub", "-rmdir sub", "rm sub/part", "mkdir empty", "ls -la")
	require.NoError(t, err, out)
	assert.True(t, bytes.Equal(content, testkit.OnDisk(t, back+"4")), "a copy on this side")
	assert.Contains(t, out, "empty")
	out, err = k.SFTP("ann", key, "rmdir empty", "rm sub/*", "rmdir sub", "ls -la")
	require.NoError(t, err, out)
	_, err = k.SFTP("ann", key, "get sub/plan "+back)
	assert.Error(t, err)
}

func byCurl(t *testing.T, k *testkit.Keep) {
	file, content := testkit.File(t, 2_500_000)
	back := filepath.Join(t.TempDir(), "back")
	for _, step := range [][]string{{"ftps", "/dir/a%20b", "-T", file, "--ftp-create-dirs"}, {"ftps", "/dir/a%20b", "-o", back}, {"ftps", "/dir/a%20b", "-o", back + "2", "-r", "1000000-1999999"}} {
		out, err := k.Curl("ann", step[0], step[1], step[2:]...)
		require.NoError(t, err, out)
	}
	assert.True(t, bytes.Equal(content, testkit.OnDisk(t, back)))
	assert.True(t, bytes.Equal(content[1_000_000:2_000_000], testkit.OnDisk(t, back+"2")))
	part := filepath.Join(t.TempDir(), "part")
	require.NoError(t, os.WriteFile(part, content[:700_000], 0o600))
	out, err := k.Curl("ann", "ftps", "/dir/resumed", "-T", part)
	require.NoError(t, err, out)
	out, err = k.Curl("ann", "ftps", "/dir/resumed", "-T", file, "-C", "-")
	require.NoError(t, err, out)
	out, err = k.Curl("ann", "ftps", "/dir/resumed", "-T", part, "--append")
	require.NoError(t, err, out)
	out, err = k.Curl("ann", "ftps", "/dir/resumed", "-o", back+"3")
	require.NoError(t, err, out)
	assert.True(t, bytes.Equal(append(bytes.Clone(content), content[:700_000]...), testkit.OnDisk(t, back+"3")), "resumed, then appended to")
}

func byLFTP(t *testing.T, k *testkit.Keep) {
	from, to := t.TempDir(), t.TempDir()
	for i := range 40 {
		dir := filepath.Join(from, fmt.Sprintf("street %d", i%5), "night")
		require.NoError(t, os.MkdirAll(dir, 0o755))
		_, content := testkit.File(t, i*10_007)
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("ün %d.jpg", i)), content, 0o600))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(from, "empty"), 0o755))
	out, err := k.LFTP("ann", "ftps", "mirror -R -P 3 "+from+" survey", "mirror -P 3 survey "+to, "rm -r survey/empty", "mirror -R --delete "+from+" survey")
	require.NoError(t, err, out)
	same, err := testkit.Run(t, "", "diff", "-r", from, to)
	assert.NoError(t, err, same)
	out, err = k.LFTP("ann", "ftps", "mv survey moved", "find moved", "rm -r moved")
	require.NoError(t, err, out)
	assert.Contains(t, out, "moved/street 4/night/ün 39.jpg")
}

func byMount(t *testing.T, k *testkit.Keep, key string) {
	if _, err := os.Stat("/dev/fuse"); err != nil || os.Getuid() != 0 {
		t.Skip("a file system can't be mounted here")
	}
	_, port, _ := net.SplitHostPort(k.Address("sftp"))
	at := t.TempDir()
	out, err := testkit.Run(t, "", "sshfs", "-p", port, "-o", "IdentityFile="+key+",IdentitiesOnly=yes,StrictHostKeyChecking=no,UserKnownHostsFile=/dev/null,BatchMode=yes", "ann@127.0.0.1:/", at)
	require.NoError(t, err, out)
	t.Cleanup(func() { exec.Command("fusermount3", "-u", "-z", at).Run() })
	name := func(n string) string { return filepath.Join(at, n) }
	_, content := testkit.File(t, 1_500_000)
	require.NoError(t, os.MkdirAll(name("a/b"), 0o755))
	require.NoError(t, os.WriteFile(name("a/b/f"), content, 0o640))
	f, err := os.OpenFile(name("a/b/f"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("in the middle"), 700_000)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(1_200_000))
	require.NoError(t, f.Sync())
	require.NoError(t, f.Close())
	copy(content[700_000:], "in the middle")
	assert.True(t, bytes.Equal(content[:1_200_000], testkit.OnDisk(t, name("a/b/f"))))
	require.NoError(t, os.WriteFile(name("new"), []byte("new"), 0o600))
	require.NoError(t, os.Rename(name("new"), name("a/b/f")))
	assert.Equal(t, "new", string(testkit.OnDisk(t, name("a/b/f"))))
	when := time.Unix(1_000_000_000, 0)
	require.NoError(t, os.Chtimes(name("a/b/f"), when, when))
	info, err := os.Stat(name("a/b/f"))
	require.NoError(t, err)
	assert.True(t, when.Equal(info.ModTime()))
	assert.Error(t, os.Remove(name("a")), "it is not empty")
	require.NoError(t, os.RemoveAll(name("a")))
	entries, err := os.ReadDir(at)
	require.NoError(t, err)
	for _, e := range entries {
		assert.NotEqual(t, "a", e.Name())
	}
}
