package sftp

import (
	"fmt"
	"io"
	"io/fs"
	"path"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/tree"
)

// requests is the table of what version 3 can ask (section 6). A request either
// leaves its reply in s.out or returns an error, nil being the status OK.
var requests map[byte]func(s *session, id uint32, d *decoder) error

func init() { // not a literal: SETSTAT and its like refer to one another
	requests = map[byte]func(*session, uint32, *decoder) error{
		pktOpen:     (*session).open,
		pktClose:    (*session).close,
		pktRead:     (*session).read,
		pktWrite:    (*session).write,
		pktLstat:    func(s *session, id uint32, d *decoder) error { return s.stat(id, d, s.tree.Lstat) },
		pktStat:     func(s *session, id uint32, d *decoder) error { return s.stat(id, d, s.tree.Stat) },
		pktFstat:    (*session).fstat,
		pktSetstat:  (*session).setstat,
		pktFsetstat: (*session).fsetstat,
		pktOpendir:  (*session).opendir,
		pktReaddir:  (*session).readdir,
		pktRemove:   func(s *session, _ uint32, d *decoder) error { return s.onPath(d, s.tree.Remove) },
		pktRmdir:    func(s *session, _ uint32, d *decoder) error { return s.onPath(d, s.tree.Rmdir) },
		pktMkdir:    func(s *session, _ uint32, d *decoder) error { return s.onPath(d, s.tree.Mkdir) },
		pktRealpath: (*session).realpath,
		pktRename:   func(s *session, _ uint32, d *decoder) error { return s.rename(d, false) },
		pktReadlink: (*session).readlink,
		pktSymlink:  (*session).symlink,
		pktExtended: (*session).extended,
	}
}

// path takes a name off a request and makes it a clean path.
func (s *session) path(d *decoder) (string, error) { return keep.CleanPath("/", d.string()) }

func (s *session) onPath(d *decoder, do func(string) error) error {
	at, err := s.path(d)
	if err != nil || d.err != nil {
		return err
	}
	return do(at)
}

// open is section 6.3.
func (s *session) open(id uint32, d *decoder) error {
	at, err := s.path(d)
	flags := d.uint32()
	attrs := d.attributes()
	if err != nil || d.err != nil {
		return err
	}
	if err := s.room(); err != nil {
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
	f, err := s.tree.Open(at, mode)
	if err != nil {
		return err
	}
	s.conn.opened(+1)
	return s.keep(id, handle{file: f, path: at})
}

// close ends a transfer; the reply waits until its record is on disk.
func (s *session) close(_ uint32, d *decoder) error {
	number, h, err := s.handle(d)
	if err != nil {
		return err
	}
	delete(s.handles, number)
	if h.file == nil {
		return nil
	}
	s.closed++ // only once the client has its reply may a stopping service hang up
	return h.file.Close()
}

func (s *session) read(id uint32, d *decoder) error {
	f, err := s.file(d)
	offset, size := d.uint64(), d.uint32()
	if err != nil || d.err != nil {
		return err
	}
	size = min(size, maxData)
	s.out.start(pktData, id)
	s.out.uint32(0)
	head := len(s.out.b)
	n, err := f.ReadAt(s.out.b[head:head+int(size)], int64(offset))
	if n == 0 && err != nil {
		s.out.b = s.out.b[:0]
		if err == io.EOF {
			return errEOF
		}
		return err
	}
	s.out.b = s.out.b[:head-4]
	s.out.uint32(uint32(n))
	s.out.b = s.out.b[:head+n]
	return nil
}

func (s *session) write(_ uint32, d *decoder) error {
	f, err := s.file(d)
	offset := d.uint64()
	data := d.bytes()
	if err != nil || d.err != nil {
		return err
	}
	if int64(offset) < 0 {
		return errBadMessage
	}
	_, err = f.WriteAt(data, int64(offset))
	return err
}

func (s *session) stat(id uint32, d *decoder, ask func(string) (fs.FileInfo, error)) error {
	at, err := s.path(d)
	if err != nil || d.err != nil {
		return err
	}
	info, err := ask(at)
	if err != nil {
		return err
	}
	s.out.start(pktAttrs, id)
	s.out.attributes(info)
	return nil
}

func (s *session) fstat(id uint32, d *decoder) error {
	_, h, err := s.handle(d)
	if err != nil {
		return err
	}
	var info fs.FileInfo
	if h.file != nil {
		info, err = h.file.Stat()
	} else {
		info, err = s.tree.Stat(h.path)
	}
	if err != nil {
		return err
	}
	s.out.start(pktAttrs, id)
	s.out.attributes(info)
	return nil
}

// target is what SETSTAT and FSETSTAT change.
type target interface {
	Resize(size int64) error
	Touch(access, modified time.Time, mode *fs.FileMode) error
}

// pathTarget is a path as a target.
type pathTarget struct {
	t  *tree.Tree
	at string
}

func (p pathTarget) Resize(size int64) error { return p.t.Resize(p.at, size) }
func (p pathTarget) Touch(access, modified time.Time, mode *fs.FileMode) error {
	return p.t.Touch(p.at, access, modified, mode)
}

func (s *session) setstat(_ uint32, d *decoder) error {
	at, err := s.path(d)
	attrs := d.attributes()
	if err != nil || d.err != nil {
		return err
	}
	return set(pathTarget{s.tree, at}, attrs)
}

func (s *session) fsetstat(_ uint32, d *decoder) error {
	_, h, err := s.handle(d)
	attrs := d.attributes()
	if err != nil || d.err != nil {
		return err
	}
	if h.file == nil {
		return set(pathTarget{s.tree, h.path}, attrs)
	}
	return set(h.file, attrs)
}

// set changes what the attributes name. Owners are the service's own.
func set(on target, a attributes) error {
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
	if a.owner && a.size == nil {
		return status{statusUnsupported, "the owner of a file can't be changed here"}
	}
	return nil
}

func (s *session) opendir(id uint32, d *decoder) error {
	at, err := s.path(d)
	if err != nil || d.err != nil {
		return err
	}
	if err := s.room(); err != nil {
		return err
	}
	entries, err := s.tree.List(at)
	if err != nil {
		return err
	}
	return s.keep(id, handle{path: at, entries: entries})
}

// dirPage bounds the names of one READDIR reply; clients allocate for them.
const dirPage = 128

func (s *session) readdir(id uint32, d *decoder) error {
	number, h, err := s.handle(d)
	if err != nil {
		return err
	}
	if h.file != nil {
		return status{statusFailure, "that handle is a file"}
	}
	if len(h.entries) == 0 {
		return errEOF
	}
	n := min(dirPage, len(h.entries))
	s.names(id, h.entries[:n], func(info fs.FileInfo) string { return info.Name() })
	h.entries = h.entries[n:]
	s.handles[number] = h
	return nil
}

// names replies with a list of names (section 7).
func (s *session) names(id uint32, entries []fs.FileInfo, name func(fs.FileInfo) string) {
	s.out.start(pktName, id)
	s.out.uint32(uint32(len(entries)))
	for _, info := range entries {
		s.out.string(name(info))
		s.out.string(s.longName(info))
		s.out.attributes(info)
	}
}

// longName is a line as ls -l prints it, in the form that section 7 recommends.
func (s *session) longName(info fs.FileInfo) string {
	kind := "-"
	switch {
	case info.IsDir():
		kind = "d"
	case info.Mode()&fs.ModeSymlink != 0:
		kind = "l"
	}
	when := info.ModTime().UTC()
	stamp := when.Format("Jan _2 15:04")
	if time.Since(when) > 180*24*time.Hour {
		stamp = when.Format("Jan _2  2006")
	}
	owner := s.tree.Account()
	return fmt.Sprintf("%s%s %4d %-8s %-8s %8d %s %s", kind, info.Mode().Perm().String()[1:], 1, owner, owner, info.Size(), stamp, info.Name())
}

// realpath makes a name canonical (section 6.11). It does not ask the disk.
func (s *session) realpath(id uint32, d *decoder) error {
	at, err := s.path(d)
	if err != nil || d.err != nil {
		return err
	}
	s.oneName(id, at)
	return nil
}

func (s *session) oneName(id uint32, name string) {
	s.out.start(pktName, id)
	s.out.uint32(1)
	s.out.string(name)
	s.out.string(name)
	s.out.uint32(0) // no attributes
}

func (s *session) rename(d *decoder, replace bool) error {
	from, err1 := s.path(d)
	to, err2 := s.path(d)
	switch {
	case d.err != nil:
		return errBadMessage
	case err1 != nil:
		return err1
	case err2 != nil:
		return err2
	}
	return s.tree.Rename(from, to, replace)
}

func (s *session) readlink(id uint32, d *decoder) error {
	at, err := s.path(d)
	if err != nil || d.err != nil {
		return err
	}
	target, err := s.tree.Readlink(at)
	if err != nil {
		return err
	}
	s.oneName(id, target)
	return nil
}

// symlink takes the target first and the link's own path second: the draft has
// them the other way round, but this is what clients really send.
func (s *session) symlink(_ uint32, d *decoder) error {
	target := d.string()
	at, err := s.path(d)
	if err != nil || d.err != nil {
		return err
	}
	return s.tree.Symlink(target, at)
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
