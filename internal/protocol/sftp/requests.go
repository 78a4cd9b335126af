package sftp

import (
	"io"
	"io/fs"
	"path"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// kinds is the table of what version 3 can ask (section 6).
var kinds map[byte]kind

// kind is one kind of request. Answer either leaves a reply in r.out or returns
// an error, nil being the status OK.
type kind struct {
	answer func(r *request) error
	turn   turn
}

// turn says what a request waits for.
type turn byte

const (
	onPath       turn = iota // waits for every request before it
	onHandle                 // begins with a handle and waits only for those on the same one
	slowOnHandle             // the same, and may take long
	endOnHandle              // the same, and may take long where the end of the file does
)

func init() { // not a literal: SETSTAT and its like refer to one another
	kinds = map[byte]kind{
		pktOpen:     {(*request).open, onPath},
		pktClose:    {(*request).close, endOnHandle},
		pktRead:     {(*request).read, onHandle},
		pktWrite:    {(*request).write, onHandle},
		pktLstat:    {func(r *request) error { return r.stat(r.s.tree.Lstat) }, onPath},
		pktStat:     {func(r *request) error { return r.stat(r.s.tree.Stat) }, onPath},
		pktFstat:    {(*request).fstat, onHandle},
		pktSetstat:  {(*request).setstat, onPath},
		pktFsetstat: {(*request).fsetstat, onHandle},
		pktOpendir:  {(*request).opendir, onPath},
		pktReaddir:  {(*request).readdir, onHandle},
		pktRemove:   {func(r *request) error { return r.doOnPath(r.s.tree.Remove) }, onPath},
		pktRmdir:    {func(r *request) error { return r.doOnPath(r.s.tree.Rmdir) }, onPath},
		pktMkdir:    {(*request).mkdir, onPath},
		pktRealpath: {(*request).realpath, onPath},
		pktRename:   {func(r *request) error { return r.rename(false) }, onPath},
		pktReadlink: {(*request).readlink, onPath},
		pktSymlink:  {(*request).symlink, onPath},
	}
}

// path takes a name off the request and makes it a clean path.
func (r *request) path() (string, error) { return keep.CleanPath("/", r.d.string()) }

func (r *request) doOnPath(do func(string) error) error {
	at, err := r.path()
	if err != nil || r.d.err != nil {
		return err
	}
	return do(at)
}

// open is section 6.3.
func (r *request) open() error {
	at, err := r.path()
	flags := r.d.uint32()
	attrs := r.d.attributes()
	if err != nil || r.d.err != nil {
		return err
	}
	if err := r.s.room(); err != nil {
		return err
	}
	mode := tree.OpenMode{Read: flags&openRead != 0, Write: flags&openWrite != 0, Append: flags&openAppend != 0,
		Create: flags&openCreate != 0, Exclusive: flags&openExcl != 0, Truncate: flags&openTrunc != 0}
	if !mode.Read && !mode.Write {
		return status{statusBadMessage, "a file is opened for reading, writing or both"}
	}
	if attrs.mode != nil {
		mode.Mode = *attrs.mode
	}
	f, err := r.s.tree.Open(at, mode)
	if err != nil {
		return err
	}
	r.s.conn.opened(+1)
	return r.keep(&handle{file: f, path: at})
}

// close ends a transfer; the reply waits until its record is on disk.
func (r *request) close() error {
	h, err := r.handle()
	if err != nil {
		return err
	}
	r.s.forget(h)
	if h.file == nil {
		r.s.awaitAhead(h)
		return h.folder.Close()
	}
	r.closed = true // only once the client has its reply may a stopping service hang up
	return h.file.Close()
}

func (r *request) read() error {
	f, err := r.file()
	offset, size := r.d.uint64(), r.d.uint32()
	if err != nil || r.d.err != nil {
		return err
	}
	size = min(size, maxData)
	r.out.b = buffer(replyHead + int(size))
	r.start(pktData)
	r.out.uint32(0)
	head := len(r.out.b)
	n, err := f.ReadAt(r.out.b[head:head+int(size)], int64(offset))
	if n == 0 && err != nil {
		r.out.b = r.out.b[:0]
		if err == io.EOF {
			return errEOF
		}
		return err
	}
	r.out.b = r.out.b[:head-4]
	r.out.uint32(uint32(n))
	r.out.b = r.out.b[:head+n]
	return nil
}

func (r *request) write() error {
	f, err := r.file()
	offset := r.d.uint64()
	data := r.d.bytes()
	if err != nil || r.d.err != nil {
		return err
	}
	if int64(offset) < 0 {
		return errBadMessage
	}
	_, err = f.WriteAt(data, int64(offset))
	return err
}

func (r *request) stat(ask func(string) (fs.FileInfo, error)) error {
	at, err := r.path()
	if err != nil || r.d.err != nil {
		return err
	}
	info, err := ask(at)
	if err != nil {
		return err
	}
	r.start(pktAttrs)
	r.out.attributes(info)
	return nil
}

func (r *request) fstat() error {
	h, err := r.handle()
	if err != nil {
		return err
	}
	var info fs.FileInfo
	if h.file != nil {
		info, err = h.file.Stat()
	} else {
		info, err = r.s.tree.Stat(h.path)
	}
	if err != nil {
		return err
	}
	r.start(pktAttrs)
	r.out.attributes(info)
	return nil
}

// target is what SETSTAT and FSETSTAT change.
type target interface {
	Resize(size int64) error
	Touch(access, modified time.Time, mode *fs.FileMode) error
	Stat() (fs.FileInfo, error)
}

// pathTarget is a path as a target.
type pathTarget struct {
	t  *tree.Tree
	at string
}

func (p pathTarget) Resize(size int64) error    { return p.t.Resize(p.at, size) }
func (p pathTarget) Stat() (fs.FileInfo, error) { return p.t.Stat(p.at) }
func (p pathTarget) Touch(access, modified time.Time, mode *fs.FileMode) error {
	return p.t.Touch(p.at, access, modified, mode)
}

func (r *request) setstat() error {
	at, err := r.path()
	attrs := r.d.attributes()
	if err != nil || r.d.err != nil {
		return err
	}
	return set(pathTarget{r.s.tree, at}, attrs)
}

func (r *request) fsetstat() error {
	h, err := r.handle()
	attrs := r.d.attributes()
	if err != nil || r.d.err != nil {
		return err
	}
	if h.file == nil {
		return set(pathTarget{r.s.tree, h.path}, attrs)
	}
	return set(h.file, attrs)
}

// set changes what the attributes name. Owners are the service's own.
func set(on target, a attributes) error {
	if a.special {
		return status{statusDenied, "special bits of a mode can't be set here; nothing was changed"}
	}
	if a.size != nil {
		if int64(*a.size) < 0 {
			return errBadMessage
		}
		if err := on.Resize(int64(*a.size)); err != nil {
			return err
		}
	}
	if a.mode != nil || !a.modified.IsZero() {
		return on.Touch(a.access, a.modified, a.mode)
	}
	if a.owner != nil && a.size == nil {
		if info, err := on.Stat(); err != nil {
			return err
		} else if _, user, group, known := store.More(info); known && *a.owner == [2]uint32{user, group} {
			return nil
		}
		return status{statusUnsupported, "the owner of a file can't be changed here"}
	}
	return nil
}

func (r *request) opendir() error {
	at, err := r.path()
	if err != nil || r.d.err != nil {
		return err
	}
	if err := r.s.room(); err != nil {
		return err
	}
	folder, err := r.s.tree.ReadFolder(at)
	if err != nil {
		return err
	}
	return r.keep(&handle{path: at, folder: folder})
}

// mkdir is section 6.6; of the attributes the mode counts.
func (r *request) mkdir() error {
	at, err := r.path()
	attrs := r.d.attributes()
	if err != nil || r.d.err != nil {
		return err
	}
	return r.s.tree.Mkdir(at, attrs.mode)
}

func (r *request) readdir() error {
	h, err := r.handle()
	if err != nil {
		return err
	}
	if h.file != nil {
		return status{statusFailure, "that handle is a file"}
	}
	r.s.awaitAhead(h)
	entries, err := h.folder.Next(r.s.conn.listRead())
	if err == io.EOF {
		return errEOF
	}
	if err != nil {
		return err
	}
	r.names(entries)
	r.s.readAhead(h)
	return nil
}

// names replies with a list of names (section 7).
func (r *request) names(entries []fs.FileInfo) {
	r.out.b = buffer(mediumBuffer)
	r.start(pktName)
	r.out.uint32(uint32(len(entries)))
	owner, now := r.s.tree.Account(), time.Now()
	for _, info := range entries {
		r.out.string(info.Name())
		r.out.longName(info, owner, now)
		r.out.attributes(info)
	}
}

// realpath makes a name canonical (section 6.11). It does not ask the disk.
func (r *request) realpath() error {
	at, err := r.path()
	if err != nil || r.d.err != nil {
		return err
	}
	r.oneName(at)
	return nil
}

func (r *request) oneName(name string) {
	r.start(pktName)
	r.out.uint32(1)
	r.out.string(name)
	r.out.string(name)
	r.out.uint32(0) // no attributes
}

func (r *request) rename(replace bool) error {
	from, err1 := r.path()
	to, err2 := r.path()
	switch {
	case r.d.err != nil:
		return errBadMessage
	case err1 != nil:
		return err1
	case err2 != nil:
		return err2
	}
	return r.s.tree.Rename(from, to, replace)
}

func (r *request) readlink() error {
	at, err := r.path()
	if err != nil || r.d.err != nil {
		return err
	}
	target, err := r.s.tree.Readlink(at)
	if err != nil {
		return err
	}
	r.oneName(target)
	return nil
}

// symlink takes the target first and the link's own path second: the draft has
// them the other way round, but this is what most clients really send.
func (r *request) symlink() error {
	first, second := r.d.string(), r.d.string()
	if r.d.err != nil {
		return nil
	}
	if r.s.conn.draftLinks {
		first, second = second, first
	}
	at, err := keep.CleanPath("/", second)
	if err != nil {
		return err
	}
	return r.s.tree.Symlink(first, at)
}

// expand is "~" as the home, which is the root of the tree.
func expand(name string) string {
	if name == "~" || name == "" {
		return "/"
	}
	if len(name) > 1 && name[:2] == "~/" {
		return path.Join("/", name[2:])
	}
	return name
}
