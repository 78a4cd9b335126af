package service_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/tests/testkit"
)

// sendAhead sends a request with a number of its own and does not wait.
func (r *raw) sendAhead(kind byte, id uint32, body ...[]byte) {
	r.send(kind, join(append([][]byte{u32(id)}, body...)...))
}

func TestASlowRequestDoesNotHoldUpOtherFiles(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	large := filepath.Join(k.Home("ann"), "large")
	require.NoError(t, os.WriteFile(large, []byte("x"), 0o640))
	require.NoError(t, os.Truncate(large, 400<<20))
	r := dialRaw(t, k, "ann")
	slow, quick := r.open("/large", fxfRead), r.open("/quick", fxfRead|fxfWrite|fxfCreat)
	r.sendAhead(fxpExtended, 1, str("check-file"), slow, str("sha512"), u64(0), u64(0), u32(0))
	r.sendAhead(fxpRead, 2, slow, u64(0), u32(10)) // behind the hash: the same file
	for id := uint32(3); id < 200; id++ {
		r.sendAhead(fxpWrite, id, quick, u64(uint64(id)*4), str("word"))
	}
	r.sendAhead(fxpRead, 200, quick, u64(12), u32(8))
	r.sendAhead(fxpClose, 201, quick)
	r.sendAhead(fxpStat, 202, str("/quick")) // names a path: it waits for all
	var order []int
	for range 202 {
		kind, body := r.receive()
		id := int(binary.BigEndian.Uint32(body))
		order = append(order, id)
		if id == 200 {
			assert.EqualValues(t, fxpData, kind)
			assert.Equal(t, str("wordword"), body[4:])
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
	r := dialRaw(t, k, "ann")
	h := r.open("/f", fxfRead)
	sum := func(parts ...[]byte) []byte {
		all := join(str("check-file"), str("sha256"))
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
		ask := join(str("whirlpool,sha256,md5"), u64(c.from), u64(c.length), u32(c.block))
		for _, way := range [][]byte{join(str("check-file-handle"), h, ask), join(str("check-file-name"), str("/f"), ask)} {
			kind, body := r.ask(fxpExtended, way)
			assert.EqualValues(t, fxpReply, kind)
			assert.Equal(t, c.want, body)
		}
	}
	whole := join(u64(0), u64(0), u32(0))
	assert.EqualValues(t, fxDenied, r.status(fxpExtended, str("check-file-name"), str("/closed/f"), str("sha256"), whole), "a hash tells what is in it")
	assert.EqualValues(t, fxFailure, r.status(fxpExtended, str("check-file"), h, str("whirlpool"), whole))
	assert.EqualValues(t, fxFailure, r.status(fxpExtended, str("check-file"), h, str("md5"), u64(0), u64(0), u32(255)))
	assert.EqualValues(t, fxNoSuchFile, r.status(fxpExtended, str("check-file-name"), str("/none"), str("md5"), whole))
	assert.EqualValues(t, fxBadMessage, r.status(fxpExtended, str("check-file"), h, str("md5")))
}

func TestAClientThatNeverReadsTakesNoMoreThanItsShare(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "f"), make([]byte, 1<<20), 0o640))
	var handles [][]byte
	r := dialRaw(t, k, "ann")
	for range 40 {
		handles = append(handles, r.open("/f", fxfRead))
	}
	heap := func() int64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before := heap()
	sent := make(chan int)
	go func() {
		n := 0
		for ; n < 200_000; n++ {
			body := join(u32(uint32(n)), handles[n%len(handles)], u64(0), u32(255<<10))
			if _, err := r.in.Write(join(u32(uint32(len(body)+1)), []byte{fxpRead}, body)); err != nil {
				break
			}
		}
		sent <- n
	}()
	time.Sleep(2 * time.Second)
	// What both ends hold of one SSH channel's windows is 2 MiB each way; ours is 2.5 MiB more.
	assert.Less(t, heap()-before, int64(16<<20))
	r.ssh.Close()
	assert.Less(t, <-sent, 200_000, "the client was made to wait")
}

func TestSessionsOnOneConnectionAreBounded(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	client := dialSSH(t, k, "ann")
	var open []*ssh.Session
	for range 10 {
		session, err := client.NewSession()
		require.NoError(t, err)
		open = append(open, session)
	}
	_, err := client.NewSession()
	assert.ErrorContains(t, err, "too many sessions on one connection")
	open[0].Close()
	assert.Eventually(t, func() bool { _, err := client.NewSession(); return err == nil }, testkit.Patience, 10*time.Millisecond)
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
	require.NoError(t, os.WriteFile(part, onDisk(t, whole)[:10_000], 0o600))
	out, err = k.SFTP("ann", key, `reget "survey/day2/scan 29.las" `+part)
	require.NoError(t, err, out)
	assert.Equal(t, onDisk(t, whole), onDisk(t, part))
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
	assert.Equal(t, content[:1_200_000], onDisk(t, filepath.Join(k.Home("ann"), "a/b/f")))
	assert.Equal(t, content[:1_200_000], onDisk(t, name("a/b/f")))
	require.NoError(t, os.WriteFile(name("new"), []byte("new"), 0o600))
	require.NoError(t, os.Rename(name("new"), name("a/b/f")))
	require.NoError(t, os.Symlink("b/f", name("a/way")))
	assert.Equal(t, "new", string(onDisk(t, name("a/way"))))
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
