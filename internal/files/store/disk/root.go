package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"runtime"
	"sort"
	"syscall"
	"time"

	"urbankeep/internal/files/store"
)

// rooted is a folder as an [os.Root], the portable way: what is named is looked at
// first, and what was opened is held against what was seen.
type rooted struct {
	root *os.Root
	base *os.Root // of the whole mount, for what concerns two folders
	rel  string   // where root lies in base
}

func openRooted(name string) (store.Folder, error) {
	root, err := os.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	return &rooted{root, root, "."}, nil
}

func (f *rooted) Lookup(name string) (fs.FileInfo, error) {
	if err := store.Itself("lookup", name); err != nil {
		return nil, err
	}
	return f.root.Lstat(name)
}

// plain looks at a name that must be no link.
func (f *rooted) plain(op, name string) (fs.FileInfo, error) {
	if err := store.Single(op, name); err != nil {
		return nil, err
	}
	info, err := f.root.Lstat(name)
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		err = &fs.PathError{Op: op, Path: name, Err: store.ErrLink}
	}
	return info, err
}

func (f *rooted) Enter(name string) (store.Folder, error) {
	seen, err := f.plain("enter", name)
	if err != nil {
		return nil, err
	}
	if !seen.IsDir() {
		return nil, &fs.PathError{Op: "enter", Path: name, Err: syscall.ENOTDIR}
	}
	next, err := f.root.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	if opened, err := next.Stat("."); err != nil || !os.SameFile(seen, opened) {
		next.Close()
		return nil, &fs.PathError{Op: "enter", Path: name, Err: errors.Join(err, store.ErrLink)} // swapped: look again
	}
	return &rooted{next, f.base, path.Join(f.rel, name)}, nil
}

func (f *rooted) Cross(rel string) (store.Folder, error) { return store.Step(f, rel) }

func (f *rooted) Open(name string, flag int, mode fs.FileMode) (store.File, error) {
	seen, err := f.plain("open", name)
	if flag&os.O_CREATE != 0 && errors.Is(err, fs.ErrNotExist) {
		return nilOr(f.root.OpenFile(name, flag|os.O_EXCL, mode.Perm()))
	}
	if err != nil {
		return nil, err
	}
	if !seen.Mode().IsRegular() && !seen.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: syscall.EINVAL}
	}
	file, err := f.root.OpenFile(name, flag, mode.Perm())
	if err != nil {
		return nil, err
	}
	if opened, err := file.Stat(); err != nil || !os.SameFile(seen, opened) {
		file.Close()
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.Join(err, store.ErrLink)}
	}
	return file, nil
}

func nilOr(file *os.File, err error) (store.File, error) {
	if err != nil {
		return nil, err
	}
	return file, nil
}

func (f *rooted) Mkdir(name string, mode fs.FileMode) error {
	if err := store.Single("mkdir", name); err != nil {
		return err
	}
	return f.root.Mkdir(name, mode.Perm())
}

func (f *rooted) Remove(name string, folder bool) error {
	if err := store.Single("remove", name); err != nil {
		return err
	}
	info, err := f.root.Lstat(name)
	switch {
	case err != nil:
		return err
	case info.IsDir() && !folder:
		return &fs.PathError{Op: "remove", Path: name, Err: syscall.EISDIR}
	case !info.IsDir() && folder:
		return &fs.PathError{Op: "remove", Path: name, Err: syscall.ENOTDIR}
	}
	return f.root.Remove(name)
}

// pair gives both names as paths of the mount they share.
func (f *rooted) pair(op, name string, to store.Folder, target string) (from, into string, err error) {
	if err := errors.Join(store.Single(op, name), store.Single(op, target)); err != nil {
		return "", "", err
	}
	other, same := to.(*rooted)
	if !same || other.base != f.base {
		return "", "", &fs.PathError{Op: op, Path: name, Err: syscall.EXDEV}
	}
	return path.Join(f.rel, name), path.Join(other.rel, target), nil
}

func (f *rooted) Rename(name string, to store.Folder, target string, replace bool) error {
	from, into, err := f.pair("rename", name, to, target)
	if err != nil {
		return err
	}
	if replace {
		return f.base.Rename(from, into)
	}
	if info, err := f.base.Lstat(from); err == nil && info.IsDir() {
		if _, err := f.base.Lstat(into); err == nil {
			return &fs.PathError{Op: "rename", Path: name, Err: syscall.EEXIST}
		}
		return f.base.Rename(from, into)
	}
	if err := f.base.Link(from, into); err != nil { // which never replaces
		return err
	}
	return f.base.Remove(from)
}

func (f *rooted) SetTimes(name string, access, modified time.Time) error {
	if err := store.Itself("set times", name); err != nil {
		return err
	}
	info, err := f.root.Lstat(name)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return &fs.PathError{Op: "set times", Path: name, Err: store.ErrLink}
	}
	return f.root.Chtimes(name, access, modified)
}

func (f *rooted) SetMode(name string, mode fs.FileMode) error {
	if err := store.Itself("set mode", name); err != nil {
		return err
	}
	info, err := f.root.Lstat(name)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return &fs.PathError{Op: "set mode", Path: name, Err: store.ErrLink}
	}
	return f.root.Chmod(name, mode.Perm())
}

func (f *rooted) Link(name string, to store.Folder, target string) error {
	from, into, err := f.pair("link", name, to, target)
	if err != nil {
		return err
	}
	return f.base.Link(from, into)
}

func (f *rooted) Symlink(text, name string) error {
	if err := store.Single("symlink", name); err != nil {
		return err
	}
	return f.root.Symlink(text, name)
}

func (f *rooted) Readlink(name string) (string, error) {
	if err := store.Single("readlink", name); err != nil {
		return "", err
	}
	return f.root.Readlink(name)
}

func (f *rooted) Duplicate() (store.Folder, error) {
	root, err := f.root.OpenRoot(".")
	if err != nil {
		return nil, err
	}
	return &rooted{root, f.base, f.rel}, nil
}

func (f *rooted) Close() error { return f.root.Close() }

func (f *rooted) Sync() error {
	dir, err := f.root.Open(".")
	if err != nil {
		return err
	}
	err = dir.Sync()
	if runtime.GOOS == "windows" {
		err = nil // folders can't be synced there
	}
	return errors.Join(err, dir.Close())
}

func (f *rooted) Entries() (store.Entries, error) {
	dir, err := f.root.Open(".")
	if err != nil {
		return nil, err
	}
	return rootedEntries{dir}, nil
}

type rootedEntries struct{ dir *os.File }

// typicalEntry is about what an entry takes in a buffer, bytes.
const typicalEntry = 40

func (e rootedEntries) Next(buffer int) ([]fs.FileInfo, error) {
	found, err := e.dir.Readdir(max(1, buffer/typicalEntry))
	if err == io.EOF || len(found) > 0 {
		sort.Slice(found, func(i, j int) bool { return found[i].Name() < found[j].Name() })
		if len(found) == 0 {
			return nil, io.EOF
		}
		return found, nil
	}
	return nil, err
}

func (e rootedEntries) Close() error { return e.dir.Close() }
