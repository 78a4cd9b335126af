package quota_test

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"urbankeep/internal/files/quota"
	disk "urbankeep/internal/files/store"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// open makes a ledger on a store with places in it.
func open(t *testing.T, db *records.DB, places ...keep.Place) *quota.Ledger {
	l := quota.Open(db, kinds.New("", nil).Look, slog.New(slog.NewTextHandler(t.Output(), nil)), nil)
	limits := map[quota.Spot]keep.Quota{}
	for _, p := range places {
		limits[quota.Spot{Store: p.Store, Path: p.Folder}] = p.Quota
	}
	require.NoError(t, l.Arrange(t.Context(), limits))
	return l
}

func database(t *testing.T) (*records.DB, string) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), filepath.Join(dir, "data"))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	store := filepath.Join(dir, "store")
	require.NoError(t, os.MkdirAll(store, 0o700))
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: store}))
	return db, store
}

// onDisk adds a folder up by itself.
func onDisk(t *testing.T, folder string) keep.Quota {
	var q keep.Quota
	require.NoError(t, filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || at == folder {
			return err
		}
		q.Files++
		if info, err := entry.Info(); err == nil && info.Mode().IsRegular() {
			q.Bytes += keep.Bytes(info.Size())
		}
		return nil
	}))
	return q
}

func used(l *quota.Ledger, folder string) keep.Quota {
	for _, u := range l.Uses() {
		if u.Folder == folder && !u.Counting {
			return u.Used
		}
	}
	return keep.Quota{Bytes: -1}
}

// However many write, cut, remove, move and count at once: no place ever holds
// more than it may, and afterwards the ledger says what the disk does.
func TestManyWritersNeverPassAQuotaAndTheBooksAreRight(t *testing.T) {
	db, store := database(t)
	limits := map[string]keep.Quota{"a": {Bytes: 40_000, Files: 60}, "a/inner": {Bytes: 9_000}, "b": {Bytes: 25_000}}
	var places []keep.Place
	for folder, q := range limits {
		require.NoError(t, os.MkdirAll(filepath.Join(store, folder), 0o700))
		places = append(places, keep.Place{Store: "files", Folder: folder, Quota: q})
	}
	require.NoError(t, os.WriteFile(filepath.Join(store, "a", "old"), make([]byte, 5000), 0o600))
	l := open(t, db, places...)
	root, err := os.OpenRoot(store)
	require.NoError(t, err)
	defer root.Close()
	var writers sync.WaitGroup
	for n := range 8 {
		writers.Go(func() { scribble(l, root, rand.New(rand.NewPCG(uint64(n), 7))) })
	}
	counting, stop := context.WithCancel(t.Context())
	var counter sync.WaitGroup
	counter.Go(func() {
		for counting.Err() == nil {
			for folder, q := range limits {
				if _, err := l.Recount(quota.Spot{Store: "files", Path: folder}); err != nil {
					t.Error(err)
				}
				if now := used(l, folder); q.Bytes > 0 && now.Bytes > q.Bytes || q.Files > 0 && now.Files > q.Files {
					t.Errorf("%s holds %+v of %+v", folder, now, q)
				}
			}
		}
	})
	writers.Wait()
	stop()
	counter.Wait()
	for folder, q := range limits {
		assert.Equal(t, onDisk(t, filepath.Join(store, folder)), used(l, folder), folder)
		assert.LessOrEqual(t, used(l, folder).Bytes, q.Bytes)
	}
	l.Close()

	again := open(t, db, places...) // settled at the end: nothing is counted
	for folder := range limits {
		assert.Equal(t, onDisk(t, filepath.Join(store, folder)), used(again, folder), folder)
	}
	again.Close()
}

// scribble does five hundred random things as a tree would.
func scribble(l *quota.Ledger, root *os.Root, r *rand.Rand) {
	folders := []string{"a", "a/inner", "b", "a/sub"}
	some := func() string { return path.Join(folders[r.IntN(len(folders))], fmt.Sprint("f", r.IntN(12))) }
	spot := func(at string) quota.Spot { return quota.Spot{Store: "files", Path: at} }
	for range 500 {
		at := some()
		switch r.IntN(6) {
		case 0, 1, 2:
			write(l, root, r, at)
		case 3:
			l.Remove(spot(at), func() (fs.FileInfo, error) { return root.Lstat(at) }, func() error { return root.Remove(at) })
		case 4:
			to := some()
			look := func() (source, replaced fs.FileInfo, err error) {
				if replaced, err = root.Lstat(to); err != nil {
					replaced = nil
				}
				source, err = root.Lstat(at)
				return source, replaced, err
			}
			if at != to {
				l.Rename(quota.Move{From: spot(at), To: spot(to), Inside: func() (disk.Folder, error) { return kinds.New("", nil).Look(keep.Store{Folder: root.Name()}, at) }, Look: look}, func() error { return root.Rename(at, to) })
			}
		case 5:
			l.Make(spot("a/sub"), func() error { return root.Mkdir("a/sub", 0o700) })
		}
	}
}

func write(l *quota.Ledger, root *os.Root, r *rand.Rand, at string) {
	spot := quota.Spot{Store: "files", Path: at}
	var f *os.File
	open := func(flags int) func() (func() (fs.FileInfo, error), error) {
		return func() (_ func() (fs.FileInfo, error), err error) {
			f, err = root.OpenFile(at, os.O_WRONLY|flags, 0o600)
			return f.Stat, err
		}
	}
	held, err := l.Open(spot, true, open(os.O_CREATE|os.O_EXCL))
	if err != nil {
		if held, err = l.Open(spot, false, open(0)); err != nil {
			return
		}
	}
	defer f.Close()
	defer held.Close(f.Stat)
	for range r.IntN(5) {
		if r.IntN(8) == 0 {
			size := r.Int64N(3000)
			held.Resize(size, func() error { return f.Truncate(size) })
			continue
		}
		off, n := r.Int64N(4000), 1+r.IntN(3000)
		held.Write(off, n, func(fits int) (int, error) { return f.WriteAt(make([]byte, fits), off) })
	}
}

func TestAMoveFromOneQuotaToAnotherTakesItsBytesAlong(t *testing.T) {
	db, store := database(t)
	for _, folder := range []string{"a/deep/er", "b"} {
		require.NoError(t, os.MkdirAll(filepath.Join(store, folder), 0o700))
	}
	require.NoError(t, os.WriteFile(filepath.Join(store, "a/deep/er/f"), make([]byte, 600), 0o600))
	l := open(t, db, keep.Place{Store: "files", Folder: "a", Quota: keep.Quota{Bytes: 1000}}, keep.Place{Store: "files", Folder: "b", Quota: keep.Quota{Bytes: 1000, Files: 4}})
	defer l.Close()
	root, err := os.OpenRoot(store)
	require.NoError(t, err)
	defer root.Close()
	f, err := root.OpenFile("a/deep/er/f", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer f.Close()
	held, err := l.Open(quota.Spot{Store: "files", Path: "a/deep/er/f"}, false, func() (func() (fs.FileInfo, error), error) { return f.Stat, nil })
	require.NoError(t, err)
	info, err := root.Lstat("a/deep")
	require.NoError(t, err)
	move := func(from, to string) error {
		return l.Rename(quota.Move{From: quota.Spot{Store: "files", Path: from}, To: quota.Spot{Store: "files", Path: to}, Inside: func() (disk.Folder, error) { return kinds.New("", nil).Look(keep.Store{Folder: store}, from) }, Look: func() (fs.FileInfo, fs.FileInfo, error) { return info, nil, nil }}, func() error { return root.Rename(from, to) })
	}
	require.NoError(t, move("a/deep", "b/deep"))
	assert.Equal(t, keep.Quota{}, used(l, "a"))
	assert.Equal(t, keep.Quota{Bytes: 600, Files: 3}, used(l, "b"))
	room := 0
	_, err = held.Write(600, 500, func(fits int) (int, error) { // the file that is open grows where it is now
		room = fits
		return 0, nil
	})
	assert.Equal(t, 400, room)
	assert.Equal(t, keep.QuotaFull, keep.FaultOf(err).Reason)
	held.Close(f.Stat) // nothing was written: what was reserved comes back
	assert.Equal(t, keep.Quota{Bytes: 600, Files: 3}, used(l, "b"))
	assert.Equal(t, keep.InUse, keep.FaultOf(move("b", "c")).Reason, "a place stays where its quota is")
	require.NoError(t, os.WriteFile(filepath.Join(store, "b/deep/behind"), make([]byte, 50), 0o600))
	d, err := l.Recount(quota.Spot{Store: "files", Path: "b"})
	require.NoError(t, err)
	assert.EqualValues(t, 650, d.BytesNow)
	assert.EqualValues(t, 600, d.BytesBefore)
}

// Somebody outside of the service takes away what is about to be replaced.
func TestARenameOntoWhatHasJustGoneIsARename(t *testing.T) {
	db, store := database(t)
	require.NoError(t, os.Mkdir(filepath.Join(store, "a"), 0o700))
	for name, size := range map[string]int{"a/x": 100, "a/y": 50} {
		require.NoError(t, os.WriteFile(filepath.Join(store, name), make([]byte, size), 0o600))
	}
	l := open(t, db, keep.Place{Store: "files", Folder: "a", Quota: keep.Quota{Bytes: 1000}})
	defer l.Close()
	spot := func(at string) quota.Spot { return quota.Spot{Store: "files", Path: at} }
	source, err := os.Lstat(filepath.Join(store, "a/x"))
	require.NoError(t, err)
	replaced, err := os.Lstat(filepath.Join(store, "a/y"))
	require.NoError(t, err)
	err = l.Rename(quota.Move{From: spot("a/x"), To: spot("a/y"), Look: func() (fs.FileInfo, fs.FileInfo, error) {
		there := replaced
		replaced = nil
		os.Remove(filepath.Join(store, "a/y"))
		return source, there, nil
	}}, func() error { return os.Rename(filepath.Join(store, "a/x"), filepath.Join(store, "a/y")) })
	require.NoError(t, err)
	_, err = l.Recount(spot("a"))
	require.NoError(t, err)
	assert.Equal(t, keep.Quota{Bytes: 100, Files: 1}, used(l, "a"))
}
