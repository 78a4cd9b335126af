package remote

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"syscall"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/sftpclient"
)

// folder is a folder of the other server, by its path there.
type folder struct {
	s  *Server
	at string
}

func (f *folder) Close() error                     { return nil }
func (f *folder) Duplicate() (store.Folder, error) { return f, nil }
func (f *folder) path(name string) string          { return f.at + "/" + name }

func (f *folder) facts(name string, a sftpclient.Attrs) store.Facts {
	return store.Facts{Named: name, Bytes: a.Size, Bits: a.Mode(), Modified: a.Modified, ID: store.Identity{Store: f.s.name, Path: path.Join("/", f.at, name)}}
}

func (f *folder) Lookup(name string) (fs.FileInfo, error) {
	if err := store.Itself("lookup", name); err != nil {
		return nil, err
	}
	_, a, err := f.look("lookup", name)
	if err != nil {
		return nil, err
	}
	return f.facts(name, a), nil
}

// look gives the facts of a name, and the connection that told them.
func (f *folder) look(op, name string) (*sftpclient.Client, sftpclient.Attrs, error) {
	c, err := f.s.client()
	if err != nil {
		return nil, sftpclient.Attrs{}, err
	}
	a, err := c.Lstat(f.path(name))
	return c, a, f.s.wrong(op, name, err)
}

// plain is look for what must be no link.
func (f *folder) plain(op, name string) (c *sftpclient.Client, a sftpclient.Attrs, err error) {
	if err := store.Single(op, name); err != nil {
		return nil, a, err
	}
	if c, a, err = f.look(op, name); err == nil && a.Mode()&fs.ModeSymlink != 0 {
		err = &fs.PathError{Op: op, Path: name, Err: store.ErrLink}
	}
	return c, a, err
}

func (f *folder) Enter(name string) (store.Folder, error) {
	_, a, err := f.plain("enter", name)
	if err == nil && !a.Mode().IsDir() {
		err = &fs.PathError{Op: "enter", Path: name, Err: syscall.ENOTDIR}
	}
	if err != nil {
		return nil, err
	}
	return &folder{f.s, f.path(name)}, nil
}

// Cross asks whether the path is what it seems, and what is there, at once; the careful walk is for when not.
func (f *folder) Cross(rel string) (store.Folder, error) {
	if path.Clean("/"+rel) != "/"+rel {
		return nil, &fs.PathError{Op: "cross", Path: path.Base(rel), Err: fs.ErrInvalid}
	}
	c, err := f.s.client()
	if err != nil {
		return nil, err
	}
	at := f.path(rel)
	base := c.Send(sftpclient.PktRealpath, sftpclient.Str(f.at+"/."))
	real := c.Send(sftpclient.PktRealpath, sftpclient.Str(at))
	facts := c.Send(sftpclient.PktLstat, sftpclient.Str(at))
	from, err1 := c.Text(base)
	to, err2 := c.Text(real)
	a, err3 := c.AttrsOf(facts)
	if err1 == nil && err2 == nil && err3 == nil && path.Join(from, rel) == to && a.Mode().IsDir() {
		return &folder{f.s, at}, nil
	}
	return store.Step(f, rel)
}

func (f *folder) Mkdir(name string, mode fs.FileMode) error {
	if err := store.Single("mkdir", name); err != nil {
		return err
	}
	c, err := f.s.client()
	if err != nil {
		return err
	}
	err = f.s.wrong("mkdir", name, c.Do(sftpclient.PktMkdir, sftpclient.Str(f.path(name)), sftpclient.Mode(mode)))
	return f.because(err, c, name, fs.ErrExist)
}

// because gives the reason of a failure that the server has not told: the name is taken.
func (f *folder) because(err error, c *sftpclient.Client, name string, taken error) error {
	if status := (*sftpclient.Status)(nil); errors.As(err, &status) {
		if _, look := c.Lstat(f.path(name)); look == nil {
			return &fs.PathError{Op: "make", Path: name, Err: taken}
		}
	}
	return err
}

func (f *folder) Remove(name string, isFolder bool) error {
	if err := store.Single("remove", name); err != nil {
		return err
	}
	f.s.names.Lock()
	defer f.s.names.Unlock()
	c, a, err := f.look("remove", name)
	switch {
	case err != nil:
		return err
	case a.Mode().IsDir() && !isFolder:
		return &fs.PathError{Op: "remove", Path: name, Err: syscall.EISDIR}
	case !a.Mode().IsDir() && isFolder:
		return &fs.PathError{Op: "remove", Path: name, Err: syscall.ENOTDIR}
	case !isFolder:
		return f.s.wrong("remove", name, c.Do(sftpclient.PktRemove, sftpclient.Str(f.path(name))))
	}
	err = f.s.wrong("remove", name, c.Do(sftpclient.PktRmdir, sftpclient.Str(f.path(name))))
	if status := (*sftpclient.Status)(nil); errors.As(err, &status) && status.Code == sftpclient.StatusFailure {
		return &fs.PathError{Op: "remove", Path: name, Err: syscall.ENOTEMPTY}
	}
	return err
}

func (f *folder) Rename(name string, to store.Folder, target string, replace bool) error {
	if err := errors.Join(store.Single("rename", name), store.Single("rename", target)); err != nil {
		return err
	}
	into, same := to.(*folder)
	if !same || into.s != f.s {
		return &fs.PathError{Op: "rename", Path: name, Err: syscall.EXDEV}
	}
	f.s.names.Lock()
	defer f.s.names.Unlock()
	c, _, err := f.look("rename", name)
	if err != nil {
		return err
	}
	from, onto := sftpclient.Str(f.path(name)), sftpclient.Str(into.path(target))
	there, look := c.Lstat(into.path(target))
	switch {
	case look != nil && !errors.Is(f.s.wrong("rename", target, look), fs.ErrNotExist):
		return f.s.wrong("rename", target, look)
	case look == nil && !replace:
		return &fs.PathError{Op: "rename", Path: name, Err: fs.ErrExist}
	case look != nil || !replace:
		err := f.s.wrong("rename", name, c.Do(sftpclient.PktRename, from, onto))
		return into.because(err, c, target, fs.ErrExist)
	case there.Mode().IsDir():
		return &fs.PathError{Op: "rename", Path: name, Err: syscall.EISDIR}
	}
	const posix = "posix-rename@openssh.com"
	if c.Offers(posix) {
		_, _, err := c.Extended(posix, from, onto)
		return f.s.wrong("rename", name, err)
	}
	if err := c.Do(sftpclient.PktRemove, onto); err != nil {
		return f.s.wrong("rename", target, err)
	}
	return f.s.wrong("rename", name, c.Do(sftpclient.PktRename, from, onto))
}

func (f *folder) SetTimes(name string, access, modified time.Time) error {
	return f.set("set times", name, func(a sftpclient.Attrs) []byte { return times(a, access, modified) })
}

// times keeps what is not to be set: the protocol sets both.
func times(a sftpclient.Attrs, access, modified time.Time) []byte {
	if access.IsZero() {
		access = a.Accessed
	}
	if modified.IsZero() {
		modified = a.Modified
	}
	return sftpclient.Times(access, modified)
}

func (f *folder) SetMode(name string, mode fs.FileMode) error {
	return f.set("set mode", name, func(sftpclient.Attrs) []byte { return sftpclient.Mode(mode) })
}

func (f *folder) set(op, name string, attrs func(sftpclient.Attrs) []byte) error {
	if err := store.Itself(op, name); err != nil {
		return err
	}
	c, a, err := f.look(op, name)
	if err == nil && a.Mode()&fs.ModeSymlink != 0 {
		err = &fs.PathError{Op: op, Path: name, Err: store.ErrLink}
	}
	if err != nil {
		return err
	}
	return f.s.wrong(op, name, c.Do(sftpclient.PktSetstat, sftpclient.Str(f.path(name)), attrs(a)))
}

func (f *folder) Link(name string, to store.Folder, target string) error {
	into, same := to.(*folder)
	if !same || into.s != f.s {
		return &fs.PathError{Op: "link", Path: name, Err: syscall.EXDEV}
	}
	c, _, err := f.plain("link", name)
	if err == nil {
		err = store.Single("link", target)
	}
	if err != nil {
		return err
	}
	_, _, err = c.Extended("hardlink@openssh.com", sftpclient.Str(f.path(name)), sftpclient.Str(into.path(target)))
	return into.because(f.s.wrong("link", name, err), c, target, fs.ErrExist)
}

// Symlink sends the two texts in the order in which all servers take them, which is not the draft's (OpenSSH, PROTOCOL).
func (f *folder) Symlink(text, name string) error {
	if err := store.Single("symlink", name); err != nil {
		return err
	}
	c, err := f.s.client()
	if err != nil {
		return err
	}
	err = f.s.wrong("symlink", name, c.Do(sftpclient.PktSymlink, sftpclient.Str(text), sftpclient.Str(f.path(name))))
	return f.because(err, c, name, fs.ErrExist)
}

func (f *folder) Readlink(name string) (string, error) {
	if err := store.Single("readlink", name); err != nil {
		return "", err
	}
	c, err := f.s.client()
	if err != nil {
		return "", err
	}
	text, err := c.Text(c.Send(sftpclient.PktReadlink, sftpclient.Str(f.path(name))))
	return text, f.s.wrong("readlink", name, err)
}

// Space asks the server how much room there is, where it tells that.
func (f *folder) Space() (space store.Space, err error) {
	c, err := f.s.client()
	if err != nil {
		return space, err
	}
	kind, body, err := c.Extended("statvfs@openssh.com", sftpclient.Str(f.at+"/."))
	if err != nil || kind != sftpclient.PktExtendedReply {
		return space, errors.ErrUnsupported
	}
	return spaceOf(body)
}

// entries reads a folder; while some names are used the next are on their way.
type entries struct {
	f      *folder
	c      *sftpclient.Client
	handle string
	next   <-chan sftpclient.Answer
	left   []fs.FileInfo
	ended  error
}

func (f *folder) Entries() (store.Entries, error) {
	c, err := f.s.client()
	if err != nil {
		return nil, err
	}
	handle, err := c.OpenDir(f.at + "/.")
	if err != nil {
		return nil, f.s.wrong("list", path.Base(f.at), err)
	}
	return &entries{f: f, c: c, handle: handle, next: c.SendReadDir(handle)}, nil
}

// typicalEntry is about what an entry takes in a buffer, bytes.
const typicalEntry = 40

func (e *entries) Next(buffer int) ([]fs.FileInfo, error) {
	for len(e.left) == 0 {
		if e.ended != nil {
			return nil, e.ended
		}
		found, err := e.c.Names(e.next)
		if err != nil {
			if e.ended = err; err != io.EOF {
				e.ended = e.f.s.wrong("list", path.Base(e.f.at), err)
			}
			return nil, e.ended
		}
		e.next = e.c.SendReadDir(e.handle)
		for _, one := range found {
			if one.Name != "." && one.Name != ".." && store.Single("list", one.Name) == nil {
				e.left = append(e.left, e.f.facts(one.Name, one.Attrs))
			}
		}
	}
	n := min(len(e.left), max(1, buffer/typicalEntry))
	found := e.left[:n:n]
	e.left = e.left[n:]
	return found, nil
}

func (e *entries) Close() error { return e.c.CloseHandle(e.handle) }

// Open opens a file.
func (f *folder) Open(name string, flag int, mode fs.FileMode) (store.File, error) {
	if err := store.Single("open", name); err != nil {
		return nil, err
	}
	fresh := flag&(os.O_CREATE|os.O_EXCL) == os.O_CREATE|os.O_EXCL
	if !fresh {
		_, a, err := f.plain("open", name)
		if errors.Is(err, fs.ErrNotExist) && flag&os.O_CREATE != 0 {
			flag, fresh = flag|os.O_EXCL, true
		} else if err != nil {
			return nil, err
		} else if a.Mode().IsDir() {
			return nil, &fs.PathError{Op: "open", Path: name, Err: syscall.EISDIR}
		} else if !a.Mode().IsRegular() {
			return nil, &fs.PathError{Op: "open", Path: name, Err: syscall.EINVAL}
		}
	}
	c, err := f.s.client()
	if err != nil {
		return nil, err
	}
	flags, attrs := uint32(sftpclient.FlagRead), sftpclient.U32(0)
	switch {
	case flag&os.O_RDWR != 0:
		flags |= sftpclient.FlagWrite
	case flag&os.O_WRONLY != 0:
		flags = sftpclient.FlagWrite
	}
	if fresh {
		flags |= sftpclient.FlagCreate | sftpclient.FlagExclusive
		attrs = sftpclient.Mode(mode)
	}
	if flag&os.O_TRUNC != 0 {
		flags |= sftpclient.FlagTruncate
	}
	handle, err := c.Open(f.path(name), flags, attrs)
	if err != nil {
		err = f.s.wrong("open", name, err)
		if fresh {
			err = f.because(err, c, name, fs.ErrExist)
		}
		return nil, err
	}
	o := &file{f: f, c: c, name: name, handle: handle, writes: flags&sftpclient.FlagWrite != 0, appends: flag&os.O_APPEND != 0, seen: -1}
	a, err := c.Fstat(handle)
	if err != nil {
		c.CloseHandle(handle)
		return nil, f.s.wrong("open", name, err)
	}
	o.size = a.Size
	return o, nil
}
