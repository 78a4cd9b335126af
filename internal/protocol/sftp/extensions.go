package sftp

import (
	"context"
	"io"
	"io/fs"

	"urbankeep/internal/keep"
)

// extension is a request of a later kind, by name (section 10).
type extension struct {
	name    string
	version string // as announced; "": not announced
	kind
}

// extensions are those that common clients use. Their descriptions are in the
// PROTOCOL file of the suite that introduced them; check-file is section 3 of
// draft-ietf-secsh-filexfer-extensions-00.
var extensions = []extension{
	{"posix-rename@openssh.com", "1", kind{func(r *request) error { return r.rename(true) }, onPath}},
	{"statvfs@openssh.com", "2", kind{(*request).statvfs, onPath}},
	{"fstatvfs@openssh.com", "2", kind{(*request).fstatvfs, onHandle}},
	{"lsetstat@openssh.com", "1", kind{(*request).lsetstat, onPath}},
	{"copy-data", "1", kind{(*request).copyData, onPath}}, // of two handles
	{"hardlink@openssh.com", "1", kind{(*request).hardlink, onPath}},
	{"fsync@openssh.com", "1", kind{(*request).fsync, slowOnHandle}},
	{"limits@openssh.com", "1", kind{(*request).limits, onPath}},
	{"expand-path@openssh.com", "1", kind{(*request).expandPath, onPath}},
	{"home-directory", "1", kind{(*request).homeDirectory, onPath}},
	{"check-file", "1", kind{(*request).checkHandle, slowOnHandle}}, // so called by some clients
	{"check-file-handle", "", kind{(*request).checkHandle, slowOnHandle}},
	{"check-file-name", "", kind{(*request).checkName, onPath}},
}

// extensionNamed takes the name off an extended request and finds its kind.
func extensionNamed(d *decoder) (kind, bool) {
	name := d.string()
	for _, e := range extensions {
		if e.name == name {
			return e.kind, true
		}
	}
	return kind{}, false
}

func (r *request) statvfs() error {
	at, err := r.path()
	if err != nil || r.d.err != nil {
		return err
	}
	return r.space(at)
}

func (r *request) fstatvfs() error {
	h, err := r.handle()
	if err != nil {
		return err
	}
	return r.space(h.path)
}

// The form of a statvfs reply: the unit that sizes are told in, and the longest name.
const (
	spaceUnit   = 4096
	longestName = 255
)

func (r *request) space(at string) error {
	space, err := r.s.tree.Space(at)
	if err != nil {
		return err
	}
	r.start(pktReply)
	for _, v := range []uint64{spaceUnit, spaceUnit, space.Bytes / spaceUnit, space.Unused / spaceUnit, space.FreeBytes / spaceUnit,
		space.Files, space.FreeFiles, space.FreeFiles, 0, 0, longestName} {
		r.out.uint64(v)
	}
	return nil
}

// lsetstat is SETSTAT without following a link; the modes and times of a link
// itself can't be set here.
func (r *request) lsetstat() error {
	at, err := r.path()
	attrs := r.d.attributes()
	if err != nil || r.d.err != nil {
		return err
	}
	info, err := r.s.tree.Lstat(at)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return status{statusUnsupported, "the modes and times of a link can't be set here"}
	}
	return set(pathTarget{r.s.tree, at}, attrs)
}

// copyData copies between two open files without sending the bytes to the client
// and back (draft-ietf-secsh-filexfer-extensions-00, section 7).
func (r *request) copyData() error {
	from, err := r.file()
	if err != nil {
		return err
	}
	readAt, length := r.d.uint64(), r.d.uint64()
	to, err := r.file()
	writeAt := r.d.uint64()
	switch {
	case err != nil || r.d.err != nil:
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
	return r.s.tree.Heavy(r.s.conn.ctx, func() error {
		buf := buffer(maxPacket)
		defer release(buf)
		_, err := io.CopyBuffer(struct{ io.Writer }{io.NewOffsetWriter(to, int64(writeAt))}, struct{ io.Reader }{whileConnected{r.s.conn.ctx, source}}, buf[:cap(buf)])
		return err
	})
}

// whileConnected ends a long piece of work with the connection it is for.
type whileConnected struct {
	ctx context.Context
	io.Reader
}

func (w whileConnected) Read(p []byte) (int, error) {
	if w.ctx.Err() != nil {
		return 0, keep.Refuse(keep.ClientGone, "the client left")
	}
	return w.Reader.Read(p)
}

func (r *request) hardlink() error {
	from, err := r.path()
	if err != nil {
		return err
	}
	to, err := r.path()
	if err != nil || r.d.err != nil {
		return err
	}
	return r.s.tree.Hardlink(from, to)
}

func (r *request) fsync() error {
	f, err := r.file()
	if err != nil {
		return err
	}
	return f.Sync()
}

func (r *request) limits() error {
	r.start(pktReply)
	for _, limit := range []uint64{maxPacket, maxData, maxData, maxHandles} {
		r.out.uint64(limit)
	}
	return nil
}

func (r *request) expandPath() error {
	at, err := keep.CleanPath("/", expand(r.d.string()))
	if err != nil || r.d.err != nil {
		return err
	}
	r.oneName(at)
	return nil
}

func (r *request) homeDirectory() error {
	r.d.string() // whose home: everyone's is "/"
	if r.d.err != nil {
		return nil
	}
	r.oneName("/")
	return nil
}
