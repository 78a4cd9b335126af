package service

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// hang is a store that does not answer one call, whichever is to be.
type hang struct {
	mu   sync.Mutex
	left int           // calls until then
	hung chan struct{} // closed when it has come to that
	on   chan struct{} // closed when the call goes on
}

func (h *hang) call() {
	h.mu.Lock()
	h.left--
	now := h.left == -1
	h.mu.Unlock()
	if now {
		close(h.hung)
		<-h.on
	}
}

// slow is a folder of it.
type slow struct {
	store.Folder
	*hang
}

func (f slow) wrap(folder store.Folder, err error) (store.Folder, error) {
	if err != nil {
		return nil, err
	}
	return slow{folder, f.hang}, nil
}
func (f slow) Lookup(name string) (fs.FileInfo, error) { f.call(); return f.Folder.Lookup(name) }
func (f slow) Enter(name string) (store.Folder, error) {
	f.call()
	return f.wrap(f.Folder.Enter(name))
}
func (f slow) Cross(rel string) (store.Folder, error) { f.call(); return f.wrap(f.Folder.Cross(rel)) }
func (f slow) Mkdir(name string, mode fs.FileMode) error {
	f.call()
	return f.Folder.Mkdir(name, mode)
}
func (f slow) Remove(name string, folder bool) error { f.call(); return f.Folder.Remove(name, folder) }
func (f slow) Rename(name string, to store.Folder, target string, replace bool) error {
	f.call()
	return f.Folder.Rename(name, to.(slow).Folder, target, replace)
}
func (f slow) Entries() (store.Entries, error) { f.call(); return f.Folder.Entries() }
func (f slow) Open(name string, flag int, mode fs.FileMode) (store.File, error) {
	f.call()
	file, err := f.Folder.Open(name, flag, mode)
	if err != nil {
		return nil, err
	}
	return slowFile{file, f.hang}, nil
}
func (f slow) Close() error { return f.Folder.Close() }

type slowFile struct {
	store.File
	*hang
}

func (f slowFile) Stat() (fs.FileInfo, error) { f.call(); return f.File.Stat() }
func (f slowFile) WriteAt(p []byte, off int64) (int, error) {
	f.call()
	return f.File.WriteAt(p, off)
}
func (f slowFile) Truncate(size int64) error { f.call(); return f.File.Truncate(size) }
func (f slowFile) Sync() error               { f.call(); return f.File.Sync() }
func (f slowFile) Close() error              { f.call(); return f.File.Close() }

// put uploads so much to a path.
func put(t *tree.Tree, at string, bytes int, part *tree.Part) error {
	f, err := t.Open(at, tree.OpenMode{Write: true, Create: true, Truncate: true, Part: part})
	if err != nil {
		return err
	}
	_, err = f.WriteAt(make([]byte, bytes), 0)
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}

// errands is a little of everything that changes a store; below is the folder with a quota of its own.
func errands(t *tree.Tree, round int) error {
	name := func(what string) string { return fmt.Sprintf("/%s%d", what, round) }
	for _, do := range []func() error{
		func() error { return t.Mkdir(name("d"), nil) },
		func() error { return put(t, name("f"), 300, nil) },
		func() error { return put(t, name("f"), 200, nil) }, // over it
		func() error { return put(t, name("p"), 100, &tree.Part{ID: fmt.Sprintf("x%d", round), Size: -1}) },
		func() error { return t.Rename(name("f"), name("d")+"/f", false) },
		func() error { return t.Rename(name("d")+"/f", "/below"+name("f"), false) }, // from one quota to another
		func() error { return t.Rename(name("p"), "/below"+name("f"), true) },
		func() error { _, err := t.Stat("/below" + name("f")); return err },
		func() error { return t.Remove("/below" + name("f")) },
		func() error { return t.Rmdir(name("d")) },
	} {
		if err := do(); err != nil {
			return err
		}
	}
	return nil
}

// TestAStoreThatHangsHoldsUpNobodyElse lets each call that a store gets hang in turn, and has everything go on in another store
// and in the books meanwhile.
func TestAStoreThatHangsHoldsUpNobodyElse(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), Options{Dir: filepath.Join(dir, "data"), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { s.Stop(context.Background()) })
	limits := map[keep.Spot]keep.Quota{}
	for _, name := range []string{"files", "other"} {
		folder := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Join(folder, "home/below"), 0o750))
		one := keep.Store{Name: name, Kind: keep.Disk, Folder: folder, Durability: keep.Process}
		one.Mark, err = s.Stores.Mark(one)
		require.NoError(t, err)
		require.NoError(t, s.DB.SaveStore(t.Context(), one))
		limits[keep.Spot{Store: name, Path: "home"}] = keep.Quota{Bytes: 100_000}
		limits[keep.Spot{Store: name, Path: "home/below"}] = keep.Quota{Bytes: 50_000}
	}
	require.NoError(t, s.ledger.Rearrange(t.Context(), limits))
	h := &hang{left: 1 << 30}
	s.door.open = func(one keep.Store, folder string) (store.Folder, int, error) {
		f, made, err := s.Stores.Open(one, folder)
		if err != nil || one.Name != "other" {
			return f, made, err
		}
		return slow{f, h}, made, nil
	}
	enter := func(name, store string) *tree.Tree {
		require.NoError(t, s.DB.AddAccount(t.Context(), &keep.Account{Name: name, State: keep.StateActive, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}},
			Mounts: []keep.Mount{{At: "/", Store: store, Folder: "home"}}}))
		holder, err := s.DB.Holder(t.Context(), name)
		require.NoError(t, err)
		visit := s.door.arriveFrom("127.0.0.1", keep.SFTP, true, func(*keep.Fault) {})
		opened, err := visit.enter(t.Context(), holder.Account)
		require.NoError(t, err)
		t.Cleanup(func() { opened.Close(); visit.SignOut(nil) })
		return opened
	}
	ann, bob := enter("ann", "files"), enter("bob", "other")
	require.NoError(t, errands(bob, -1))
	for n := 0; ; n++ {
		h.mu.Lock()
		h.left, h.hung, h.on = n, make(chan struct{}), make(chan struct{})
		h.mu.Unlock()
		ended := make(chan error, 1)
		go func() { ended <- errands(bob, n) }()
		select {
		case err := <-ended:
			require.NoError(t, err)
			require.Greater(t, n, 60, "calls that have hung")
			t.Log(n, "calls have hung")
			return
		case <-h.hung:
		}
		went := make(chan error, 1)
		go func() {
			err := errands(ann, n)
			if err == nil {
				err = s.ledger.Rearrange(context.Background(), limits)
			}
			if _, wrong := s.ledger.Recount(keep.Spot{Store: "files", Path: "home"}); err == nil {
				err = wrong
			}
			s.ledger.Uses()
			went <- err
		}()
		select {
		case err := <-went:
			require.NoError(t, err)
		case <-time.After(20 * time.Second): // a third of what it may take would do
			t.Errorf("call %d hangs, and all else waits for it", n)
		}
		close(h.on)
		require.NoError(t, <-ended)
	}
}
