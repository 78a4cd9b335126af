package clients_test

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestSFTPWithTheRealClientAndAKey(t *testing.T) {
	k := testkit.Start(t)
	k.Account("crew-harbour")
	file, content := testkit.File(t, 3_000_017)
	for _, kind := range [][]string{{"-t", "ed25519"}, {"-t", "ecdsa"}, {"-t", "rsa", "-b", "2048"}} {
		key := k.Key("crew-harbour", kind...)
		back := filepath.Join(t.TempDir(), "back")
		out, err := k.SFTP("crew-harbour", key, "mkdir scans", "put "+file+" scans/a.las", "rename scans/a.las scans/b.las", "get scans/b.las "+back,
			"chmod 600 scans/b.las", "ln -s /scans/b.las way", "ln scans/b.las second", "copy scans/b.las third", "rm third", "df", "df -h /", "ls -l", "rm way", "rm second", "cd ..", "pwd", "rm scans/b.las", "rmdir scans")
		require.NoError(t, err, out)
		assert.Contains(t, out, "Remote working directory: /")
		assert.Equal(t, content, testkit.OnDisk(t, back))
		entries, err := os.ReadDir(k.Home("crew-harbour"))
		require.NoError(t, err)
		assert.Empty(t, entries)
	}
	found := k.Transfers("-account", "crew-harbour")
	require.Len(t, found, 3*4, "up, down, and both ends of the copy, with each key")
	for _, tr := range found {
		assert.EqualValues(t, len(content), tr.Bytes)
		assert.Equal(t, "done", tr.Outcome)
		assert.True(t, tr.Encrypted)
	}
}

func TestSFTPResumesAndTakesAPassword(t *testing.T) {
	k := testkit.Start(t)
	k.Account("crew-harbour")
	key := k.Key("crew-harbour")
	file, content := testkit.File(t, 500_000)
	require.NoError(t, os.MkdirAll(k.Home("crew-harbour"), 0o750))
	part := filepath.Join(k.Home("crew-harbour"), "part")
	require.NoError(t, os.WriteFile(part, content[:200_000], 0o640))
	out, err := k.SFTP("crew-harbour", key, "reput "+file+" part")
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, part))
	out, err = k.Curl("crew-harbour", "sftp", "/part")
	require.NoError(t, err)
	assert.Equal(t, string(content), out)
	out, err = k.Curl("crew-harbour", "sftp", "/new", "-T", file)
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("crew-harbour"), "new")))
}

func TestThereIsNoShell(t *testing.T) {
	k := testkit.Start(t)
	k.Account("crew-harbour")
	key := k.Key("crew-harbour")
	_, port, _ := net.SplitHostPort(k.Address("sftp"))
	for _, command := range [][]string{nil, {"cat", "/etc/passwd"}} {
		args := append([]string{"-T", "-q", "-p", port, "-i", key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no",
			"-o", "UserKnownHostsFile=" + os.DevNull, "crew-harbour@127.0.0.1"}, command...)
		out, err := testkit.Run(t, "", "ssh", args...)
		assert.Error(t, err)
		assert.Contains(t, out, "this service moves files; it has no shell")
	}
}

func TestFTPWithCurlOverBothKindsOfTLS(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	file, content := testkit.File(t, 2_000_003)
	for _, listener := range []string{"ftp", "ftps"} {
		out, err := k.Curl("records-desk", listener, "/in/a.bin", "--ftp-create-dirs", "-T", file)
		require.NoError(t, err, out)
		assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("records-desk"), "in", "a.bin")))
		out, err = k.Curl("records-desk", listener, "/in/a.bin")
		require.NoError(t, err)
		assert.True(t, out == string(content), "the download differs")
		out, err = k.Curl("records-desk", listener, "/in/a.bin", "-r", "1000000-")
		require.NoError(t, err)
		assert.True(t, out == string(content[1_000_000:]), "the resumed download differs")
		out, err = k.Curl("records-desk", listener, "/in/", "-l")
		require.NoError(t, err)
		assert.Equal(t, "a.bin\n", strings.ReplaceAll(out, "\r", ""))
		out, err = k.Curl("records-desk", listener, "/", "-Q", "-RNFR in/a.bin", "-Q", "-RNTO in/b.bin", "-Q", "-DELE in/b.bin", "-Q", "-RMD in")
		require.NoError(t, err, out)
		assert.NoDirExists(t, filepath.Join(k.Home("records-desk"), "in"))
	}
	out, err := testkit.Run(t, "", "curl", "-sS", "-I", "-k", "--ssl-reqd", "--user", "records-desk:"+testkit.Password, "ftp://"+k.Address("ftp")+"/none")
	assert.Error(t, err, out)
}

func TestFTPWithLftpMirrorsBothWays(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	src, back := t.TempDir(), t.TempDir()
	for _, name := range []string{"a.txt", "deep/er/b.bin", "name with spaces", "größe-ñ.txt"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(src, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(src, name), []byte(strings.Repeat(name, 1000)), 0o644))
	}
	past := time.Date(2025, 2, 3, 4, 5, 6, 0, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(src, "a.txt"), past, past))
	for _, listener := range []string{"ftp", "ftps"} {
		out, err := k.LFTP("records-desk", listener, "mirror -R "+src+" up", "mirror up "+back, "mv up/a.txt up/c.txt", "du up", "rm -r up")
		require.NoError(t, err, out)
		for _, name := range []string{"a.txt", "deep/er/b.bin", "name with spaces", "größe-ñ.txt"} {
			assert.Equal(t, testkit.OnDisk(t, filepath.Join(src, name)), testkit.OnDisk(t, filepath.Join(back, name)))
		}
		info, err := os.Stat(filepath.Join(back, "a.txt"))
		require.NoError(t, err)
		assert.True(t, info.ModTime().Equal(past), "MFMT and MLSD carry the time: %s", info.ModTime())
		require.NoError(t, os.RemoveAll(back))
	}
	file, content := testkit.File(t, 900_000)
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("records-desk"), "part"), content[:400_000], 0o640))
	out, err := k.LFTP("records-desk", "ftp", "put -c "+file+" -o part")
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("records-desk"), "part")))
}

func TestEncryptionIsRequiredUnlessAnAccountMayGoWithout(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	k.Account("gauge-quay", "-encryption=optional", "-rights", "drop-only")
	out, err := testkit.Run(t, "", "curl", "-sS", "--user", "records-desk:"+testkit.Password, "ftp://"+k.Address("ftp")+"/")
	assert.Error(t, err, out)
	file, content := testkit.File(t, 600)
	out, err = testkit.Run(t, "", "curl", "-sS", "--user", "gauge-quay:"+testkit.Password, "-T", file, "ftp://"+k.Address("ftp")+"/level.csv")
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("gauge-quay"), "level.csv")))
	found := k.Transfers()
	require.Len(t, found, 1)
	assert.False(t, found[0].Encrypted, "a transfer in clear is marked")
	var refused []api.AuditRecord
	k.Must(&refused, "audit", "-outcome", "refused")
	require.Len(t, refused, 1)
	assert.EqualValues(t, "encryption-required", refused[0].Reason)
}
