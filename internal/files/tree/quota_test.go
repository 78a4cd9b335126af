package tree_test

import (
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// limited is a tree over a whole store, in which two folders have quotas, one of
// them inside the other.
func limited(t *testing.T) (*tree.Tree, *quota.Ledger, string) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), filepath.Join(dir, "data"))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	files := filepath.Join(dir, "files")
	require.NoError(t, os.MkdirAll(filepath.Join(files, "home", "inner"), 0o750))
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: files}))
	ledger := quota.Open(db, kinds.New("", nil).Look, slog.New(slog.NewTextHandler(t.Output(), nil)), nil)
	t.Cleanup(ledger.Close)
	require.NoError(t, ledger.Arrange(t.Context(), map[quota.Spot]keep.Quota{{Store: "files", Path: "home"}: {Bytes: 1000, Files: 8}, {Store: "files", Path: "home/inner"}: {Bytes: 300}}))
	a := &keep.Account{Name: "desk", State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "/"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}}
	opened, err := tree.Open(tree.Who{Account: "desk"}, inForce(t, a), tree.House{Stores: []keep.Store{{Name: "files", Folder: files}}, Ledger: ledger, Trail: &ledgerOfRecords{}}, unwatched{})
	require.NoError(t, err)
	t.Cleanup(func() { opened.Close() })
	return opened, ledger, files
}

// ledgerOfRecords takes records and forgets them.
type ledgerOfRecords struct{}

func (l *ledgerOfRecords) Announce(keep.AuditRecord, string) (func(keep.AuditRecord) error, error) {
	return l.Record, nil
}
func (l *ledgerOfRecords) Hold(keep.AuditRecord) (func(keep.AuditRecord) error, error) {
	return l.Record, nil
}
func (*ledgerOfRecords) Record(keep.AuditRecord) error { return nil }
func (*ledgerOfRecords) Note(keep.AuditRecord)         {}

// agrees compares the books with the disk, and gives what the home holds.
func agrees(t *testing.T, l *quota.Ledger, files string) keep.Quota {
	t.Helper()
	var home keep.Quota
	for _, use := range l.Uses() {
		var disk keep.Quota
		require.NoError(t, filepath.WalkDir(filepath.Join(files, use.Folder), func(at string, e fs.DirEntry, err error) error {
			if err != nil || at == filepath.Join(files, use.Folder) {
				return err
			}
			disk.Files++
			info, err := e.Info()
			if err == nil && info.Mode().IsRegular() {
				disk.Bytes += keep.Bytes(info.Size())
			}
			return err
		}))
		assert.Equal(t, disk, use.Used, use.Folder)
		if use.Folder == "home" {
			home = use.Used
		}
	}
	return home
}

func TestEveryWayOfWritingIsCounted(t *testing.T) {
	tr, l, files := limited(t)
	require.NoError(t, put(tr, "/home/a", strings.Repeat("a", 400)))
	require.NoError(t, put(tr, "/home/a", "short"), "overwritten, and cut")
	require.NoError(t, put(tr, "/outside", strings.Repeat("x", 5000)), "no quota there")
	f, err := tr.Open("/home/a", tree.OpenMode{Write: true, Append: true})
	require.NoError(t, err)
	_, err = f.WriteAt([]byte(" and longer"), 0)
	require.NoError(t, err)
	require.NoError(t, f.Resize(100))
	require.NoError(t, f.Close())
	assert.Equal(t, keep.Quota{Bytes: 100, Files: 2}, agrees(t, l, files))
	require.NoError(t, tr.Resize("/home/a", 600))
	assert.Equal(t, keep.QuotaFull, reasonOf(tr.Resize("/home/a", 1001)))
	require.NoError(t, tr.Resize("/home/a", 10))
	require.NoError(t, tr.Mkdir("/home/folder", nil))
	require.NoError(t, tr.Symlink("a", "/home/link"))
	assert.Equal(t, keep.QuotaFull, reasonOf(tr.Rename("/outside", "/home/too-large", false)))
	require.NoError(t, tr.Rename("/home/a", "/home/folder/b", false))
	require.NoError(t, tr.Rename("/home/folder", "/away", false))
	assert.Equal(t, keep.Quota{Bytes: 0, Files: 2}, agrees(t, l, files))
	require.NoError(t, tr.Rename("/away/b", "/home/a", false))
	require.NoError(t, put(tr, "/home/c", strings.Repeat("c", 50)))
	require.NoError(t, tr.Rename("/home/c", "/home/a", true), "one in place of the other")
	assert.Equal(t, keep.Quota{Bytes: 50, Files: 3}, agrees(t, l, files))
	require.NoError(t, tr.Hardlink("/home/a", "/home/second"))
	require.NoError(t, tr.Remove("/home/a"), "its bytes stay with the other name")
	assert.Equal(t, keep.Quota{Bytes: 50, Files: 3}, agrees(t, l, files))
	require.NoError(t, tr.Remove("/home/second"))
	require.NoError(t, tr.Remove("/home/link"))
	assert.Equal(t, keep.Quota{Bytes: 0, Files: 1}, agrees(t, l, files))
}

func TestAnInnerQuotaIsReachedByWhateverWay(t *testing.T) {
	tr, l, files := limited(t)
	require.NoError(t, os.Symlink("home/inner", filepath.Join(files, "sly")))
	f, err := tr.Open("/sly/f", tree.OpenMode{Write: true, Create: true})
	require.NoError(t, err)
	n, err := f.WriteAt(make([]byte, 400), 0)
	assert.Equal(t, 300, n, "what fits is kept")
	assert.Equal(t, keep.QuotaFull, reasonOf(err))
	assert.Error(t, f.Close())
	assert.Equal(t, keep.Quota{Bytes: 300, Files: 2}, agrees(t, l, files))
	space, err := tr.Space("/home/inner")
	require.NoError(t, err)
	assert.Zero(t, space.FreeBytes)
	space, err = tr.Space("/home")
	require.NoError(t, err)
	assert.EqualValues(t, 700, space.FreeBytes)
	assert.Equal(t, keep.AcrossMounts, reasonOf(tr.Hardlink("/home/inner/f", "/home/second")))
	assert.Equal(t, keep.InUse, reasonOf(tr.Rename("/home/inner", "/home/moved", false)), "a folder with a quota stays where it is")
	assert.Equal(t, keep.InUse, reasonOf(tr.Rename("/home", "/moved", false)))
	require.NoError(t, tr.Rename("/home/inner/f", "/home/f", false))
	assert.Equal(t, keep.Quota{Bytes: 300, Files: 2}, agrees(t, l, files))
}

func TestARemovedFileCountsUntilItIsClosed(t *testing.T) {
	tr, l, files := limited(t)
	f, err := tr.Open("/home/f", tree.OpenMode{Write: true, Create: true})
	require.NoError(t, err)
	_, err = f.WriteAt(make([]byte, 900), 0)
	require.NoError(t, err)
	require.NoError(t, tr.Remove("/home/f"))
	assert.Equal(t, keep.QuotaFull, reasonOf(put(tr, "/home/g", strings.Repeat("g", 200))), "it takes its room still")
	require.NoError(t, tr.Remove("/home/g"))
	require.NoError(t, f.Close())
	require.NoError(t, put(tr, "/home/g", strings.Repeat("g", 200)))
	assert.Equal(t, keep.Quota{Bytes: 200, Files: 2}, agrees(t, l, files))
	for n := range 6 {
		require.NoError(t, tr.Mkdir("/home/d"+string(rune('0'+n)), nil))
	}
	assert.Equal(t, keep.QuotaFull, reasonOf(tr.Mkdir("/home/more", nil)))
	assert.Equal(t, keep.QuotaFull, reasonOf(tr.Symlink("g", "/home/more")))
	assert.Equal(t, keep.QuotaFull, reasonOf(put(tr, "/home/more", "")))
	assert.Equal(t, keep.QuotaFull, reasonOf(tr.Hardlink("/home/g", "/home/more")))
}
