package tree_test

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

func pattern(n int) []byte {
	text := make([]byte, n)
	for i := range text {
		text[i] = byte(i ^ i>>8)
	}
	return text
}

func TestAFileGoesOutWholeFromAnyOffset(t *testing.T) {
	tr, jail, l := plant(t, nil)
	content := pattern(9<<20 + 17) // more than the largest slice
	require.NoError(t, os.WriteFile(filepath.Join(jail, "f"), content, 0o640))
	for _, from := range []int64{0, 1, 64 << 10, int64(len(content)) - 1, int64(len(content))} {
		f, err := tr.Open("/f", tree.OpenMode{Read: true, Offset: from})
		require.NoError(t, err)
		var out bytes.Buffer
		var w io.Writer = &out // has ReadFrom, as a TCP connection has
		if from == 1 {
			w = struct{ io.Writer }{&out} // has not, as a TLS connection
		}
		require.NoError(t, f.SendTo(w, from, -1))
		require.NoError(t, f.Close())
		assert.True(t, bytes.Equal(content[from:], out.Bytes()), "from %d", from)
		assert.EqualValues(t, len(content)-int(from), l.last().Bytes)
		assert.Equal(t, from, l.last().Offset)
	}
}

// brokenPipe takes a little and then fails.
type brokenPipe struct{ left int }

var errBroken = errors.New("broken pipe")

func (b *brokenPipe) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left < 0 {
		return 0, errBroken
	}
	return len(p), nil
}

func TestABrokenConnectionIsTheProtocolsToTell(t *testing.T) {
	tr, jail, l := plant(t, nil)
	require.NoError(t, os.WriteFile(filepath.Join(jail, "f"), pattern(1<<20), 0o640))
	f, err := tr.Open("/f", tree.OpenMode{Read: true})
	require.NoError(t, err)
	assert.ErrorIs(t, f.SendTo(&brokenPipe{left: 300 << 10}, 0, -1), errBroken)
	f.Abort(keep.Refuse(keep.ClientGone, "the data connection broke off"))
	assert.Equal(t, keep.Interrupted, l.last().Outcome)
	assert.Equal(t, keep.ClientGone, l.last().Reason)
	assert.Less(t, l.last().Bytes, int64(1<<20))
	assert.Error(t, f.Close(), "closed twice")
	assert.Len(t, l.records, 1)
}

func TestAFileComesInWholeAtAnyOffset(t *testing.T) {
	tr, jail, l := plant(t, nil)
	content := pattern(700_001)
	f, err := tr.Open("/in", tree.OpenMode{Write: true, Create: true})
	require.NoError(t, err)
	require.NoError(t, f.ReceiveFrom(bytes.NewReader(content[:300_000]), 0))
	require.NoError(t, f.Close())
	f, err = tr.Open("/in", tree.OpenMode{Write: true, Offset: 300_000})
	require.NoError(t, err)
	require.NoError(t, f.ReceiveFrom(bytes.NewReader(content[300_000:]), 300_000))
	require.NoError(t, f.Close())
	stored, err := os.ReadFile(filepath.Join(jail, "in"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, stored))
	assert.EqualValues(t, 400_001, l.last().Bytes)
	assert.Equal(t, keep.Done, l.last().Outcome)
}

func TestWritesOfManyGoroutinesAllCount(t *testing.T) {
	tr, jail, l := plant(t, nil)
	f, err := tr.Open("/f", tree.OpenMode{Write: true, Create: true})
	require.NoError(t, err)
	var writing sync.WaitGroup
	for n := range 32 {
		writing.Go(func() {
			_, err := f.WriteAt(bytes.Repeat([]byte{byte('A' + n)}, 1000), int64(n)*1000)
			assert.NoError(t, err)
		})
	}
	writing.Wait()
	require.NoError(t, f.Close())
	assert.EqualValues(t, 32_000, l.last().Bytes)
	stored, err := os.ReadFile(filepath.Join(jail, "f"))
	require.NoError(t, err)
	for n := range 32 {
		assert.Equal(t, byte('A'+n), stored[n*1000+999])
	}
}

func TestOpeningAsksForWhatIsThere(t *testing.T) {
	tr, _, _ := plant(t, nil, keep.Grant{Path: "/", Rights: keep.List | keep.Download | keep.Upload})
	open := func(at string, mode tree.OpenMode) keep.Reason {
		f, err := tr.Open(at, mode)
		if err == nil {
			f.Close()
		}
		return reasonOf(err)
	}
	assert.Equal(t, keep.NoReason, open("/own", tree.OpenMode{Read: true}))
	assert.Equal(t, keep.NotFound, open("/none", tree.OpenMode{Read: true}))
	assert.Equal(t, keep.NotFound, open("/none/deep", tree.OpenMode{Write: true, Create: true}))
	assert.Equal(t, keep.IsAFolder, open("/sub", tree.OpenMode{Read: true}))
	assert.Equal(t, keep.NoRight, open("/own", tree.OpenMode{Write: true}), "overwrite")
	assert.Equal(t, keep.NoRight, open("/own", tree.OpenMode{Write: true, Create: true, Append: true}), "appending changes a file too")
	assert.Equal(t, keep.NoReason, open("/new", tree.OpenMode{Write: true, Create: true, Exclusive: true}))
	assert.Equal(t, keep.AlreadyThere, open("/new", tree.OpenMode{Write: true, Create: true, Exclusive: true}), "nothing is to be overwritten")
}

func TestWhoMakesAFileMaySetItsTimesUntilItIsClosed(t *testing.T) {
	tr, jail, _ := plant(t, nil, keep.Grant{Path: "/", Rights: keep.Upload})
	f, err := tr.Open("/new", tree.OpenMode{Write: true, Create: true, Mode: 0o777})
	require.NoError(t, err)
	when, mode := time.Date(2024, 1, 2, 3, 4, 5, 0, time.UTC), fs.FileMode(0o666)
	require.NoError(t, f.Touch(when, when, &mode))
	require.NoError(t, f.Close())
	info, err := os.Stat(filepath.Join(jail, "new"))
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(when))
	assert.Equal(t, fs.FileMode(0o640), info.Mode().Perm(), "nobody else on the machine gets anything")
	assert.Equal(t, keep.NoReason, reasonOf(tr.Touch("/new", when, when, nil)), "the session has made it")
	assert.Equal(t, keep.NoRight, reasonOf(tr.Touch("/own", when, when, nil)))

	// A name that means another file by now is left alone.
	f, err = tr.Open("/second", tree.OpenMode{Write: true, Create: true})
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(jail, "second")))
	require.NoError(t, os.Symlink("own", filepath.Join(jail, "second")))
	before, err := os.Stat(filepath.Join(jail, "own"))
	require.NoError(t, err)
	f.Touch(when, when, nil) // the open file itself, where the system can
	after, err := os.Stat(filepath.Join(jail, "own"))
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime())
	f.Close()
}

func TestFoldersAreMadeAndRemovedWithTheRightReasons(t *testing.T) {
	tr, jail, l := plant(t, nil)
	require.NoError(t, tr.Mkdir("/a", nil))
	require.NoError(t, tr.Mkdir("/a/b", nil))
	assert.Equal(t, keep.MakeDir, l.last().Action)
	assert.Equal(t, "/a/b", l.last().Path)
	for want, do := range map[keep.Reason]func() error{
		keep.AlreadyThere: func() error { return tr.Mkdir("/a", nil) },
		keep.NotEmpty:     func() error { return tr.Rmdir("/a") },
		keep.NotAFolder:   func() error { return tr.Rmdir("/own") },
		keep.IsAFolder:    func() error { return tr.Remove("/a") },
		keep.NotFound:     func() error { return tr.Remove("/none") },
		keep.BadRequest:   func() error { return tr.Rename("/a", "/a/b/c", false) },
		keep.MountPoint:   func() error { return tr.Rmdir("/") },
	} {
		assert.Equal(t, want, reasonOf(do()))
		assert.NotEqual(t, keep.Done, l.last().Outcome)
	}
	require.NoError(t, tr.Rmdir("/a/b"))
	require.NoError(t, tr.Rename("/a", "/sub/a", false))
	assert.DirExists(t, filepath.Join(jail, "sub", "a"))
	assert.Equal(t, "/sub/a", l.last().Target)
	assert.Equal(t, keep.NotAFolder, reasonOf(tr.MayEnter("/own")))
	assert.NoError(t, tr.MayEnter("/sub/a"))
}

func TestResizingAndHardLinks(t *testing.T) {
	tr, jail, _ := plant(t, nil)
	require.NoError(t, tr.Resize("/own", 2))
	text, err := os.ReadFile(filepath.Join(jail, "own"))
	require.NoError(t, err)
	assert.Equal(t, "ow", string(text))
	require.NoError(t, tr.Hardlink("/own", "/sub/again"))
	require.NoError(t, put(tr, "/sub/again", "both"))
	text, err = os.ReadFile(filepath.Join(jail, "own"))
	require.NoError(t, err)
	assert.Equal(t, "both", string(text))
	assert.Equal(t, keep.BadRequest, reasonOf(tr.Hardlink("/sub", "/sub2")))
	assert.Equal(t, keep.NotFound, reasonOf(tr.Hardlink("/none", "/x")))
}

// failing is a trail whose disk is full.
type failing struct{ ledger }

func (f *failing) Announce(keep.AuditRecord, string) (func(keep.AuditRecord) error, error) {
	return nil, keep.Refuse(keep.TrailUnavailable, "the audit trail can't be written")
}

func TestNothingIsAcknowledgedThatCannotBeRecorded(t *testing.T) {
	dir := t.TempDir()
	a := &keep.Account{Name: "ann", State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "ann"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}}
	tr, err := tree.Open(tree.Who{Account: "ann"}, inForce(t, a), house(dir, &failing{}), unwatched{})
	require.NoError(t, err)
	defer tr.Close()
	assert.Equal(t, keep.TrailUnavailable, reasonOf(tr.Mkdir("/d", nil)))
	assert.Equal(t, keep.TrailUnavailable, reasonOf(put(tr, "/f", "x")))
	_, err = tree.Open(tree.Who{}, inForce(t, &keep.Account{Name: "ben", Mounts: []keep.Mount{{At: "/", Store: "gone", Folder: "x"}}}), tree.House{}, unwatched{})
	assert.ErrorContains(t, err, `no store is named "gone"`)
}

func TestRenewedGrantsHoldAtOnce(t *testing.T) {
	tr, _, _ := plant(t, nil)
	require.NoError(t, tr.Mkdir("/a", nil))
	a := &keep.Account{Name: "crew", Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "crew"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.List}}}
	tr.Renew(inForce(t, a))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Mkdir("/b", nil)))
	assert.True(t, tr.May(keep.List, "/a"))
	assert.False(t, tr.May(keep.Mkdir, "/a"))
}
