package service

import (
	"io/fs"
	"os"
	"syscall"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// injury is what becomes of the stores at a random step of a deed: it fails, or the process ends there.
type injury struct {
	left  int // steps until then; below 0: never
	kills bool
	dead  bool
	hurt  bool // it has come to pass
}

var errInjured = &fs.PathError{Op: "injure", Path: "store", Err: syscall.EIO}

// step is asked before each step that changes a store or a deed that is written down.
func (i *injury) step() error {
	if i.dead {
		return errInjured
	}
	if i.left--; i.left != -1 {
		return nil
	}
	i.hurt, i.dead = true, i.kills
	return errInjured
}

// frail is a folder that fails when it is told to.
type frail struct {
	store.Folder
	*injury
	store string // nothing is moved from one to another
}

func (f frail) wrap(folder store.Folder, err error) (store.Folder, error) {
	if err != nil {
		return nil, err
	}
	return frail{folder, f.injury, f.store}, nil
}
func (f frail) Enter(name string) (store.Folder, error) { return f.wrap(f.Folder.Enter(name)) }
func (f frail) Cross(rel string) (store.Folder, error)  { return f.wrap(f.Folder.Cross(rel)) }
func (f frail) Mkdir(name string, mode fs.FileMode) error {
	return firstOf(f.step, func() error { return f.Folder.Mkdir(name, mode) })
}
func (f frail) Remove(name string, folder bool) error {
	return firstOf(f.step, func() error { return f.Folder.Remove(name, folder) })
}
func (f frail) Rename(name string, to store.Folder, target string, replace bool) error {
	if to.(frail).store != f.store {
		return &fs.PathError{Op: "rename", Path: name, Err: syscall.EXDEV}
	}
	return firstOf(f.step, func() error { return f.Folder.Rename(name, to.(frail).Folder, target, replace) })
}
func (f frail) Open(name string, flag int, mode fs.FileMode) (store.File, error) {
	if flag&(os.O_WRONLY|os.O_RDWR) != 0 {
		if err := f.step(); err != nil {
			return nil, err
		}
	}
	return f.Folder.Open(name, flag, mode)
}
func (f frail) Symlink(text, name string) error {
	return firstOf(f.step, func() error { return f.Folder.(store.Linker).Symlink(text, name) })
}
func (f frail) Readlink(name string) (string, error) { return f.Folder.(store.Linker).Readlink(name) }
func (f frail) Link(name string, to store.Folder, target string) error {
	return firstOf(f.step, func() error { return f.Folder.(store.Linker).Link(name, to.(frail).Folder, target) })
}

func firstOf(one, two func() error) error {
	if err := one(); err != nil {
		return err
	}
	return two()
}

// frailHangs fails with the stores.
type frailHangs struct {
	tree.Hangings
	*injury
}

func (h frailHangs) Begin(d keep.Deed) error {
	return firstOf(h.step, func() error { return h.Hangings.Begin(d) })
}
func (h frailHangs) Commit(d keep.Deed, over bool) error {
	return firstOf(h.step, func() error { return h.Hangings.Commit(d, over) })
}
func (h frailHangs) Forget(id string) error {
	return firstOf(h.step, func() error { return h.Hangings.Forget(id) })
}
