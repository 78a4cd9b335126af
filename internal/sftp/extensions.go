package sftp

import (
	"io"
	"io/fs"

	"urbankeep/internal/keep"
)

// extension is a request of a later kind, by name (section 10).
type extension struct {
	name    string
	version string // as announced; "": not announced
	run     func(s *session, id uint32, d *decoder) error
}

// extensions are those that common clients use. Their descriptions are in the
// PROTOCOL file of the suite that introduced them.
var extensions = []extension{
	{"posix-rename@openssh.com", "1", func(s *session, _ uint32, d *decoder) error { return s.rename(d, true) }},
	{"statvfs@openssh.com", "2", (*session).statvfs},
	{"fstatvfs@openssh.com", "2", (*session).fstatvfs},
	{"lsetstat@openssh.com", "1", (*session).lsetstat},
	{"copy-data", "1", (*session).copyData},
	{"hardlink@openssh.com", "1", (*session).hardlink},
	{"fsync@openssh.com", "1", (*session).fsync},
	{"limits@openssh.com", "1", (*session).limits},
	{"expand-path@openssh.com", "1", (*session).expandPath},
	{"home-directory", "1", (*session).homeDirectory},
}

func (s *session) extended(id uint32, d *decoder) error {
	name := d.string()
	for _, e := range extensions {
		if e.name == name {
			return e.run(s, id, d)
		}
	}
	return errUnsupported
}

func (s *session) statvfs(id uint32, d *decoder) error {
	at, err := s.path(d)
	if err != nil || d.err != nil {
		return err
	}
	return s.space(id, at)
}

func (s *session) fstatvfs(id uint32, d *decoder) error {
	_, h, err := s.handle(d)
	if err != nil {
		return err
	}
	return s.space(id, h.path)
}

// The form of a statvfs reply: the unit that sizes are told in, and the longest name.
const (
	spaceUnit   = 4096
	longestName = 255
)

func (s *session) space(id uint32, at string) error {
	space, err := s.tree.Space(at)
	if err != nil {
		return err
	}
	s.out.start(pktReply, id)
	for _, v := range []uint64{spaceUnit, spaceUnit, space.Bytes / spaceUnit, space.FreeBytes / spaceUnit, space.FreeBytes / spaceUnit,
		space.Files, space.FreeFiles, space.FreeFiles, 0, 0, longestName} {
		s.out.uint64(v)
	}
	return nil
}

// lsetstat is SETSTAT without following a link; the modes and times of a link
// itself can't be set here.
func (s *session) lsetstat(_ uint32, d *decoder) error {
	at, err := s.path(d)
	attrs := d.attributes()
	if err != nil || d.err != nil {
		return err
	}
	info, err := s.tree.Lstat(at)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return status{statusUnsupported, "the modes and times of a link can't be set here"}
	}
	return set(pathTarget{s.tree, at}, attrs)
}

// copyData copies between two open files without sending the bytes to the client
// and back (draft-ietf-secsh-filexfer-extensions-00, section 7).
func (s *session) copyData(_ uint32, d *decoder) error {
	from, err := s.file(d)
	if err != nil {
		return err
	}
	readAt, length := d.uint64(), d.uint64()
	to, err := s.file(d)
	writeAt := d.uint64()
	switch {
	case err != nil || d.err != nil:
		return err
	case int64(readAt) < 0 || int64(writeAt) < 0 || int64(length) < 0:
		return errBadMessage
	case from == to:
		return status{statusFailure, "a file can't be copied onto itself"}
	}
	var source io.Reader = io.NewSectionReader(from, int64(readAt), 1<<62)
	if length > 0 {
		source = io.LimitReader(source, int64(length))
	}
	_, err = io.CopyBuffer(struct{ io.Writer }{io.NewOffsetWriter(to, int64(writeAt))}, struct{ io.Reader }{source}, s.in)
	return err
}

func (s *session) hardlink(_ uint32, d *decoder) error {
	from, err := s.path(d)
	if err != nil {
		return err
	}
	to, err := s.path(d)
	if err != nil || d.err != nil {
		return err
	}
	return s.tree.Hardlink(from, to)
}

func (s *session) fsync(_ uint32, d *decoder) error {
	f, err := s.file(d)
	if err != nil {
		return err
	}
	return f.Sync()
}

func (s *session) limits(id uint32, _ *decoder) error {
	s.out.start(pktReply, id)
	for _, limit := range []uint64{maxPacket, maxData, maxData, maxHandles} {
		s.out.uint64(limit)
	}
	return nil
}

func (s *session) expandPath(id uint32, d *decoder) error {
	at, err := keep.CleanPath("/", expand(d.string()))
	if err != nil || d.err != nil {
		return err
	}
	s.oneName(id, at)
	return nil
}

func (s *session) homeDirectory(id uint32, d *decoder) error {
	d.string() // whose home: everyone's is "/"
	if d.err != nil {
		return nil
	}
	s.oneName(id, "/")
	return nil
}
