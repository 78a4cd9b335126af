package clients_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"urbankeep/tests/testkit/sftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

func TestASlowRequestDoesNotHoldUpOtherFiles(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	large := filepath.Join(k.Home("ann"), "large")
	require.NoError(t, os.WriteFile(large, []byte("x"), 0o640))
	require.NoError(t, os.Truncate(large, 400<<20))
	r := sftptalk.Dial(t, k, "ann")
	slow, quick := r.Open("/large", sftptalk.FxfRead), r.Open("/quick", sftptalk.FxfRead|sftptalk.FxfWrite|sftptalk.FxfCreat)
	r.SendAhead(sftptalk.FxpExtended, 1, sftptalk.Str("check-file"), slow, sftptalk.Str("sha512"), sftptalk.U64(0), sftptalk.U64(0), sftptalk.U32(0))
	r.SendAhead(sftptalk.FxpRead, 2, slow, sftptalk.U64(0), sftptalk.U32(10)) // behind the hash: the same file
	for id := uint32(3); id < 200; id++ {
		r.SendAhead(sftptalk.FxpWrite, id, quick, sftptalk.U64(uint64(id)*4), sftptalk.Str("word"))
	}
	r.SendAhead(sftptalk.FxpRead, 200, quick, sftptalk.U64(12), sftptalk.U32(8))
	r.SendAhead(sftptalk.FxpClose, 201, quick)
	r.SendAhead(sftptalk.FxpStat, 202, sftptalk.Str("/quick")) // names a path: it waits for all
	var order []int
	for range 202 {
		kind, body := r.Receive()
		id := int(binary.BigEndian.Uint32(body))
		order = append(order, id)
		if id == 200 {
			assert.EqualValues(t, sftptalk.FxpData, kind)
			assert.Equal(t, sftptalk.Str("wordword"), body[4:])
		}
	}
	at := map[int]int{}
	for place, id := range order {
		at[id] = place
	}
	assert.Less(t, at[200], at[1], "the other file did not wait for the hash")
	assert.Less(t, at[1], at[2], "the same file did")
	assert.Equal(t, 201, at[202])
	for id := 4; id < 202; id++ {
		assert.Less(t, at[id-1], at[id], "what concerns one file is answered in order")
	}
}

func TestHashesAreThoseOfTheFile(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-rights", "full", "-grant", "/closed=list")
	_, content := testkit.File(t, 100_000)
	require.NoError(t, os.MkdirAll(filepath.Join(k.Home("ann"), "closed"), 0o750))
	for _, name := range []string{"f", "closed/f"} {
		require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), name), content, 0o640))
	}
	r := sftptalk.Dial(t, k, "ann")
	h := r.Open("/f", sftptalk.FxfRead)
	sum := func(parts ...[]byte) []byte {
		all := sftptalk.Join(sftptalk.Str("check-file"), sftptalk.Str("sha256"))
		for _, part := range parts {
			digest := sha256.Sum256(part)
			all = append(all, digest[:]...)
		}
		return all
	}
	for _, c := range []struct {
		from, length uint64
		block        uint32
		want         []byte
	}{
		{0, 0, 0, sum(content)}, {10, 100, 0, sum(content[10:110])}, {99_000, 5_000, 0, sum(content[99_000:])},
		{0, 0, 40_000, sum(content[:40_000], content[40_000:80_000], content[80_000:])}, {0, 80_000, 40_000, sum(content[:40_000], content[40_000:80_000])},
		{200_000, 0, 0, sum(nil)},
	} {
		ask := sftptalk.Join(sftptalk.Str("whirlpool,sha256,md5"), sftptalk.U64(c.from), sftptalk.U64(c.length), sftptalk.U32(c.block))
		for _, way := range [][]byte{sftptalk.Join(sftptalk.Str("check-file-handle"), h, ask), sftptalk.Join(sftptalk.Str("check-file-name"), sftptalk.Str("/f"), ask)} {
			kind, body := r.Ask(sftptalk.FxpExtended, way)
			assert.EqualValues(t, sftptalk.FxpReply, kind)
			assert.Equal(t, c.want, body)
		}
	}
	whole := sftptalk.Join(sftptalk.U64(0), sftptalk.U64(0), sftptalk.U32(0))
	assert.EqualValues(t, sftptalk.FxDenied, r.Status(sftptalk.FxpExtended, sftptalk.Str("check-file-name"), sftptalk.Str("/closed/f"), sftptalk.Str("sha256"), whole), "a hash tells what is in it")
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpExtended, sftptalk.Str("check-file"), h, sftptalk.Str("whirlpool"), whole))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpExtended, sftptalk.Str("check-file"), h, sftptalk.Str("md5"), sftptalk.U64(0), sftptalk.U64(0), sftptalk.U32(255)))
	assert.EqualValues(t, sftptalk.FxNoSuchFile, r.Status(sftptalk.FxpExtended, sftptalk.Str("check-file-name"), sftptalk.Str("/none"), sftptalk.Str("md5"), whole))
	assert.EqualValues(t, sftptalk.FxBadMessage, r.Status(sftptalk.FxpExtended, sftptalk.Str("check-file"), h, sftptalk.Str("md5")))
}

func TestWholeFoldersGoUpAndDownWithTheRealClient(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	key := k.Key("ann")
	from, back := t.TempDir(), t.TempDir()
	for n := range 30 {
		name := filepath.Join(from, "survey", fmt.Sprint("day", n%3), fmt.Sprint("scan ", n, ".las"))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, bytes.Repeat([]byte{byte(n)}, n*1000), 0o600))
	}
	out, err := k.SFTP("ann", key, "put -R "+from+"/survey", "get -R survey "+back)
	require.NoError(t, err, out)
	diff, err := testkit.Run(t, "", "diff", "-r", from, back)
	assert.NoError(t, err, diff)
	part := filepath.Join(t.TempDir(), "part")
	whole := filepath.Join(from, "survey", "day2", "scan 29.las")
	require.NoError(t, os.WriteFile(part, testkit.OnDisk(t, whole)[:10_000], 0o600))
	out, err = k.SFTP("ann", key, `reget "survey/day2/scan 29.las" `+part)
	require.NoError(t, err, out)
	assert.Equal(t, testkit.OnDisk(t, whole), testkit.OnDisk(t, part))
}

// A mount through FUSE asks what no transfer client does: many files at once,
// writes in the middle, renames onto what is there.
func TestTheTreeCanBeMounted(t *testing.T) {
	if _, err := os.Stat("/dev/fuse"); err != nil || os.Getuid() != 0 {
		t.Skip("a file system can't be mounted here")
	}
	k := testkit.Start(t)
	k.Account("ann")
	key := k.Key("ann")
	_, port, _ := net.SplitHostPort(k.Address("sftp"))
	at := t.TempDir()
	out, err := testkit.Run(t, "", "sshfs", "-p", port, "-o", "IdentityFile="+key+",IdentitiesOnly=yes,StrictHostKeyChecking=no,UserKnownHostsFile=/dev/null,BatchMode=yes",
		"ann@127.0.0.1:/", at)
	require.NoError(t, err, out)
	t.Cleanup(func() { exec.Command("fusermount3", "-u", "-z", at).Run() })
	_, content := testkit.File(t, 1_500_000)
	name := func(n string) string { return filepath.Join(at, n) }
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
	assert.Equal(t, content[:1_200_000], testkit.OnDisk(t, filepath.Join(k.Home("ann"), "a/b/f")))
	assert.Equal(t, content[:1_200_000], testkit.OnDisk(t, name("a/b/f")))
	require.NoError(t, os.WriteFile(name("new"), []byte("new"), 0o600))
	require.NoError(t, os.Rename(name("new"), name("a/b/f")))
	require.NoError(t, os.Symlink("b/f", name("a/way")))
	assert.Equal(t, "new", string(testkit.OnDisk(t, name("a/way"))))
	require.NoError(t, os.Chmod(name("a/b/f"), 0o400))
	require.NoError(t, os.Chtimes(name("a/b/f"), time.Unix(1e9, 0), time.Unix(1e9, 0)))
	info, err := os.Stat(name("a/b/f"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o400), info.Mode().Perm())
	assert.Equal(t, int64(1e9), info.ModTime().Unix())
	assert.Error(t, os.Remove(name("a")), "it is not empty")
	require.NoError(t, os.RemoveAll(name("a")))
	entries, err := os.ReadDir(at)
	require.NoError(t, err)
	assert.Empty(t, entries)
	out, err = testkit.Run(t, "", "df", at)
	assert.NoError(t, err, out)
}
