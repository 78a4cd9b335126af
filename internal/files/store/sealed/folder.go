package sealed

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"sync"
	"syscall"
	"time"

	"filippo.io/age"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/files/store/whole"
)

// Disk is a disk whose files are encrypted.
type Disk struct {
	key     *Key
	to      []age.Recipient
	names   *names
	root    func() (store.Folder, error) // the store's own folder, of the disk
	scratch func() (*scratch.File, error)
	sizes   sizes
	files   whole.Files
	moving  sync.Mutex // held while a name goes, moves or is given a new content
}

// Setup is what a sealed disk is made of.
type Setup struct {
	Key        *Key
	Recipients []string // who else can open the files, age1…
	SealNames  bool
	Root       func() (store.Folder, error) // opens the store's own folder, of the disk
	Scratch    func() (*scratch.File, error)
}

// New gives a sealed disk, on which nothing is left over of what was not whole.
func New(s Setup) (*Disk, error) {
	d := &Disk{key: s.Key, to: []age.Recipient{s.Key.identity.Recipient()}, root: s.Root, scratch: s.Scratch}
	for _, text := range s.Recipients {
		r, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, err
		}
		d.to = append(d.to, r)
	}
	if s.SealNames {
		d.names = newNames(s.Key)
	}
	return d, d.sweep()
}

// sweep removes what the end of the process left in the spool.
func (d *Disk) sweep() error {
	spool, err := d.spool(false)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer spool.Close()
	entries, err := spool.Entries()
	if err != nil {
		return err
	}
	defer entries.Close()
	for {
		found, err := entries.Next(store.LargeRead)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for _, one := range found {
			spool.Remove(one.Name(), one.IsDir()) // what stays takes room, nothing else
		}
	}
}

// spool opens the folder of what is not whole yet.
func (d *Disk) spool(make bool) (store.Folder, error) {
	root, err := d.root()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	spool, err := root.Enter(store.SpoolName)
	if make && errors.Is(err, fs.ErrNotExist) {
		if err := root.Mkdir(store.SpoolName, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
		spool, err = root.Enter(store.SpoolName)
	}
	return spool, err
}

// Folder gives a folder of the disk as what is in it. It is closed with that.
func (d *Disk) Folder(on store.Folder) store.Folder { return &folder{d, on} }

// folder is an open folder.
type folder struct {
	d  *Disk
	on store.Folder // as it lies on the disk
}

func (f *folder) Lookup(name string) (fs.FileInfo, error) {
	if err := store.Itself("lookup", name); err != nil {
		return nil, err
	}
	lies := f.d.names.on(name)
	info, err := f.on.Lookup(lies)
	if err != nil {
		return nil, renamed(err, name)
	}
	return f.facts(info, lies, name)
}

// renamed gives an error the name that was asked for.
func renamed(err error, name string) error {
	if e := (*fs.PathError)(nil); errors.As(err, &e) {
		return &fs.PathError{Op: e.Op, Path: name, Err: e.Err}
	}
	return err
}

func (f *folder) Enter(name string) (store.Folder, error) {
	next, err := f.on.Enter(f.d.names.on(name))
	if err != nil {
		return nil, renamed(err, name)
	}
	return &folder{f.d, next}, nil
}

func (f *folder) Cross(rel string) (store.Folder, error) {
	next, err := f.on.Cross(f.d.names.onPath(rel))
	if err != nil {
		return nil, renamed(err, rel)
	}
	return &folder{f.d, next}, nil
}

func (f *folder) Mkdir(name string, mode fs.FileMode) error {
	if err := store.Single("mkdir", name); err != nil {
		return err
	}
	return renamed(f.on.Mkdir(f.d.names.on(name), mode), name)
}

func (f *folder) Remove(name string, isFolder bool) error {
	if err := store.Single("remove", name); err != nil {
		return err
	}
	f.d.moving.Lock()
	defer f.d.moving.Unlock()
	return renamed(f.on.Remove(f.d.names.on(name), isFolder), name)
}

func (f *folder) Rename(name string, to store.Folder, target string, replace bool) error {
	if err := errors.Join(store.Single("rename", name), store.Single("rename", target)); err != nil {
		return err
	}
	into, same := to.(*folder)
	if !same || into.d != f.d {
		return &fs.PathError{Op: "rename", Path: name, Err: syscall.EXDEV}
	}
	f.d.moving.Lock()
	defer f.d.moving.Unlock()
	return renamed(f.on.Rename(f.d.names.on(name), into.on, f.d.names.on(target), replace), name)
}

func (f *folder) SetTimes(name string, access, modified time.Time) error {
	return renamed(f.on.SetTimes(f.d.names.on(name), access, modified), name)
}

func (f *folder) SetMode(name string, mode fs.FileMode) error {
	return renamed(f.on.SetMode(f.d.names.on(name), mode), name)
}

// Link is not for files whose contents are replaced whole.
func (f *folder) Link(name string, _ store.Folder, _ string) error {
	return &fs.PathError{Op: "link", Path: name, Err: syscall.EINVAL}
}

func (f *folder) linker() (store.Linker, error) {
	if l, can := f.on.(store.Linker); can {
		return l, nil
	}
	return nil, syscall.EINVAL
}

func (f *folder) Symlink(text, name string) error {
	if err := store.Single("symlink", name); err != nil {
		return err
	}
	l, err := f.linker()
	if err != nil {
		return err
	}
	return renamed(l.Symlink(f.d.names.onPath(text), f.d.names.on(name)), name)
}

func (f *folder) Readlink(name string) (string, error) {
	l, err := f.linker()
	if err != nil {
		return "", err
	}
	if err := store.Single("readlink", name); err != nil {
		return "", err
	}
	text, err := l.Readlink(f.d.names.on(name))
	if err != nil {
		return "", renamed(err, name)
	}
	return f.d.names.offPath(text)
}

func (f *folder) Space() (store.Space, error) { return store.SpaceOf(f.on) }
func (f *folder) Sync() error                 { return store.Sync(f.on) }
func (f *folder) Close() error                { return f.on.Close() }

func (f *folder) Duplicate() (store.Folder, error) {
	on, err := f.on.(store.Duplicator).Duplicate()
	if err != nil {
		return nil, err
	}
	return &folder{f.d, on}, nil
}

func (f *folder) Entries() (store.Entries, error) {
	again, err := f.Duplicate()
	if err != nil {
		return nil, err
	}
	on, err := f.on.Entries()
	if err != nil {
		return nil, errors.Join(err, again.Close())
	}
	return &entries{again.(*folder), on}, nil
}

type entries struct {
	in *folder
	on store.Entries
}

func (e *entries) Next(buffer int) ([]fs.FileInfo, error) {
	for {
		found, err := e.on.Next(buffer)
		if err != nil {
			return nil, err
		}
		shown := found[:0]
		for _, info := range found {
			lies := info.Name()
			name, err := e.in.d.names.off(lies)
			if err != nil {
				continue // it is not of this store
			}
			facts, err := e.in.facts(info, lies, name)
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, store.ErrLink) {
				continue // it went meanwhile
			}
			if err != nil {
				return nil, err
			}
			shown = append(shown, facts)
		}
		if len(shown) > 0 {
			return shown, nil
		}
	}
}

func (e *entries) Close() error { return errors.Join(e.on.Close(), e.in.Close()) }

// facts are those of the contents.
func (f *folder) facts(info fs.FileInfo, lies, name string) (fs.FileInfo, error) {
	if key, known := store.Number(info); known {
		if open := f.d.files.Facts(key); open != nil {
			return facts{open, name, open.Size()}, nil
		}
	}
	plain := facts{info, name, info.Size()}
	if !info.Mode().IsRegular() {
		return plain, nil
	}
	head, known := f.d.sizes.get(info)
	if !known {
		file, err := f.on.Open(lies, os.O_RDONLY, 0)
		if err != nil {
			return nil, renamed(err, name)
		}
		head = headOf(file)
		file.Close()
		f.d.sizes.put(info, head)
	}
	plain.size = sizeOf(info.Size(), head)
	return plain, nil
}

// facts of a name of the disk, with what the file holds.
type facts struct {
	fs.FileInfo
	name string
	size int64
}

func (f facts) Name() string { return f.name }
func (f facts) Size() int64  { return f.size }
