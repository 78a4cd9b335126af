package sftp

import "urbankeep/internal/keep"

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
