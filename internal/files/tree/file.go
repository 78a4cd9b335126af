package tree

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
)

// OpenMode is how a file is to be opened.
type OpenMode struct {
	Read, Write bool
	Append      bool // every write goes to the end
	Create      bool // make the file where there is none
	Exclusive   bool // with Create: refuse a file that is there
	Truncate    bool // empty a file that is there
	Rescan      bool // with Write: what is there may be read to find where to go on; the client gets none of it
	Mode        fs.FileMode
	Offset      int64 // where the client begins, bytes; for the record
	Total       int64 // size the client announced, bytes; 0: unknown
}

// File is an open file whose use is measured, and recorded when it is closed.
// Its methods may be called from several goroutines at once.
type File struct {
	t       *Tree
	f       *os.File
	path    string
	mode    OpenMode
	created bool // by this open, so that its times and modes are still the client's to set
	started time.Time
	meter   Meter
	held    *quota.File // nil when it is not open for writing
	moved   atomic.Int64

	stopped chan struct{} // closed when somebody ended the transfer
	mu      sync.Mutex
	broken  error // the first error of a read or write, or why it was ended
	closed  bool
}

// Open opens a file for a transfer. A refusal is recorded at once, everything
// else when the file is closed.
func (t *Tree) Open(at string, mode OpenMode) (*File, error) {
	action := keep.Downloading
	if mode.Write {
		action = keep.Uploading
	}
	started := time.Now()
	f, held, created, err := t.openFile(at, mode)
	if err != nil {
		err = asFault(err)
		r := t.base(action, at)
		r.Offset, r.Duration = mode.Offset, time.Since(started)
		t.ended(&r, err)
		t.trail.Note(r)
		return nil, err
	}
	total := mode.Total
	if info, err := f.Stat(); err == nil && !mode.Write {
		total = info.Size()
	}
	if total == 0 && mode.Write {
		total = -1
	}
	opened := &File{t: t, f: f, path: at, mode: mode, created: created, started: started, held: held, stopped: make(chan struct{})}
	opened.meter = t.watch.Begin(Transfer{Action: action, Path: at, Offset: mode.Offset, Total: total, Stop: opened.stop})
	return opened, nil
}

// stop ends the transfer from outside: reads and writes fail from now on.
func (f *File) stop(why *keep.Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.Ended() == nil {
		f.broken = why
		close(f.stopped)
	}
}

// Stopped is closed when somebody ended the transfer; a protocol that waits for its
// client then stops waiting.
func (f *File) Stopped() <-chan struct{} { return f.stopped }

// Ended says why somebody ended the transfer, nil while nobody did.
func (f *File) Ended() error {
	select {
	case <-f.stopped:
		return f.broken
	default:
		return nil
	}
}

// openFile decides and opens. The right depends on whether the file is there,
// and the opening is bound to what was seen, so that a race is an error.
func (t *Tree) openFile(at string, mode OpenMode) (f *os.File, held *quota.File, created bool, err error) {
	if mode.Write {
		if err := t.policy.Load().CheckSize(mode.Total); err != nil {
			return nil, nil, false, err
		}
	}
	p, err := t.resolve(at, true)
	if err != nil {
		return nil, nil, false, err
	}
	defer p.close()
	if mode.Read {
		if err := t.may(keep.Download, p.path); err != nil {
			return nil, nil, false, err
		}
	}
	info, err := p.dir.Stat(p.name)
	if errors.Is(err, fs.ErrNotExist) && mode.Write && mode.Create {
		if err := t.may(keep.Upload, p.path); err != nil {
			return nil, nil, false, err
		}
		if err := t.notMount(at); err != nil {
			return nil, nil, false, err
		}
		spot := t.spot(&p, at)
		if err := t.ledger.Fits(spot, mode.Total, 0); err != nil {
			return nil, nil, false, err
		}
		held, err = t.ledger.Open(spot, true, func() (func() (fs.FileInfo, error), error) {
			f, err = p.dir.OpenFile(p.name, flags(mode)|os.O_CREATE|os.O_EXCL, t.fileMode(at, mode.Mode))
			return f.Stat, err
		})
		if err != nil && f != nil {
			err = errors.Join(err, f.Close())
		}
		return f, held, true, err
	}
	if mode.Write {
		if right := t.may(keep.Overwrite, p.path); right != nil {
			return nil, nil, false, right
		}
	}
	if err != nil {
		return nil, nil, false, err
	}
	if mode.Create && mode.Exclusive {
		return nil, nil, false, fs.ErrExist
	}
	if err := regular(info); err != nil {
		return nil, nil, false, err
	}
	spot := t.spot(&p, at)
	if mode.Write {
		if err := t.ledger.Fits(spot, mode.Total, info.Size()); err != nil {
			return nil, nil, false, err
		}
	}
	open := func() (func() (fs.FileInfo, error), error) {
		if f, err = p.dir.OpenFile(p.name, flags(mode), 0); err != nil {
			return nil, err
		}
		return f.Stat, p.same(f)
	}
	if mode.Write {
		held, err = t.ledger.Open(spot, false, open)
	} else {
		_, err = open()
	}
	if err == nil && mode.Truncate && mode.Write {
		err = held.Resize(0, func() error { return f.Truncate(0) })
	}
	if err != nil && f != nil {
		held.Close(f.Stat)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return nil, nil, false, err
	}
	return f, held, false, nil
}

func flags(mode OpenMode) int {
	flag := os.O_RDONLY
	switch {
	case mode.Write && (mode.Read || mode.Rescan):
		flag = os.O_RDWR
	case mode.Write:
		flag = os.O_WRONLY
	}
	if mode.Append && mode.Write {
		flag |= os.O_APPEND
	}
	return flag
}

// fileMode is the mode of a new file: what the client asked for, or read and write
// for all if it did not ask, less the umask.
func (t *Tree) fileMode(at string, asked fs.FileMode) fs.FileMode {
	if asked == 0 {
		asked = 0o666
	}
	return t.umask(at).Masks(asked)
}

// umask is the mask for what is made at a path.
func (t *Tree) umask(at string) keep.Mode {
	policy := t.policy.Load()
	return policy.Umask(policy.MountOf(at))
}

// Path is the file's path in the tree.
func (f *File) Path() string { return f.path }

// Stat gives the file's facts.
func (f *File) Stat() (fs.FileInfo, error) {
	info, err := f.f.Stat()
	return info, asFault(err)
}

// ReadAt reads as [io.ReaderAt] does.
func (f *File) ReadAt(p []byte, off int64) (int, error) {
	if !f.mode.Read && !f.mode.Rescan {
		return 0, keep.Refuse(keep.BadRequest, "the file was not opened for reading")
	}
	if err := f.Ended(); err != nil {
		return 0, err
	}
	n, err := f.f.ReadAt(p, off)
	if !f.mode.Write {
		f.meter.Pace(n)
		f.count(n)
	}
	if err == io.EOF {
		return n, io.EOF
	}
	return n, f.note(err)
}

// WriteAt writes as [io.WriterAt] does; a file opened to append takes the bytes
// at its end, whatever the offset.
func (f *File) WriteAt(p []byte, off int64) (n int, err error) {
	if !f.mode.Write {
		return 0, keep.Refuse(keep.BadRequest, "the file was not opened for writing")
	}
	if err := f.Ended(); err != nil {
		return 0, err
	}
	f.meter.Pace(len(p))
	policy := f.t.policy.Load()
	if f.mode.Append {
		off = -1
		if policy.SizeLimited() {
			info, err := f.f.Stat()
			if err != nil {
				return 0, f.note(err)
			}
			off = info.Size()
		}
	}
	most := policy.Fits(max(off, 0), len(p))
	switch {
	case most == 0 && len(p) > 0:
	case f.mode.Append:
		n, err = f.held.Write(-1, most, func(fits int) (int, error) { return f.f.Write(p[:fits]) })
	default:
		n, err = f.held.Write(off, most, func(fits int) (int, error) { return f.f.WriteAt(p[:fits], off) })
	}
	f.count(n)
	if err == nil && most < len(p) {
		err = policy.CheckSize(off + int64(len(p)))
	}
	return n, f.note(err)
}

func (f *File) count(n int) {
	if n > 0 {
		f.moved.Add(int64(n))
		f.meter.Moved(n)
	}
}

// note keeps the first error for the record and makes it showable.
func (f *File) note(err error) error {
	if err == nil {
		return nil
	}
	err = asFault(err)
	f.mu.Lock()
	if f.broken == nil {
		f.broken = err
	}
	f.mu.Unlock()
	return err
}

// How much is moved between two updates of the counters, bytes: it grows while a
// slice takes next to no time and shrinks on a slow line, so that the kernel moves
// bytes by itself and progress shows all the same.
const (
	leastSlice = 64 << 10
	mostSlice  = 4 << 20
)

var buffers = sync.Pool{New: func() any { return new([256 << 10]byte) }}

// SendTo writes so many bytes of the file from an offset on, all to its end when
// length is negative. Where w is a plain TCP connection the kernel moves the bytes.
func (f *File) SendTo(w io.Writer, from, length int64) error {
	if _, err := f.f.Seek(from, io.SeekStart); err != nil {
		return f.note(err)
	}
	_, kernel := w.(io.ReaderFrom)
	buf := buffers.Get().(*[256 << 10]byte)
	defer buffers.Put(buf)
	if length < 0 {
		length = 1<<63 - 1
	}
	for slice := int64(leastSlice); length > 0; {
		started := time.Now()
		var n int64
		var err error
		part := min(slice, length)
		if chunk := f.meter.Chunk(); chunk > 0 {
			part = min(part, int64(chunk))
		}
		if kernel {
			n, err = io.CopyN(w, f.f, part)
		} else {
			n, err = io.CopyBuffer(w, io.LimitReader(plainReader{f.f}, part), buf[:])
			if err == nil && n < part {
				err = io.EOF
			}
		}
		length -= n
		f.meter.Pace(int(n))
		f.count(int(n))
		switch took := time.Since(started); {
		case took < 50*time.Millisecond && slice < mostSlice:
			slice *= 2
		case took > time.Second && slice > leastSlice:
			slice /= 2
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err // of the connection or the disk: the protocol knows which to say
		}
	}
	return nil
}

// plainReader hides the methods by which io would copy with a buffer of its own.
type plainReader struct{ io.Reader }

// ReceiveFrom writes what r gives at an offset and onward, until r ends.
// The error is r's own, or a [keep.Fault] of the disk.
func (f *File) ReceiveFrom(r io.Reader, from int64) error {
	buf := buffers.Get().(*[256 << 10]byte)
	defer buffers.Put(buf)
	for {
		into := buf[:]
		if chunk := f.meter.Chunk(); chunk > 0 && chunk < len(into) {
			into = into[:chunk]
		}
		n, err := r.Read(into)
		if n > 0 {
			wrote, werr := f.WriteAt(buf[:n], from)
			from += int64(wrote)
			if werr != nil {
				return werr
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Resize cuts or extends the open file, bytes.
func (f *File) Resize(size int64) error {
	if !f.mode.Write {
		return keep.Refuse(keep.BadRequest, "the file was not opened for writing")
	}
	if err := f.t.policy.Load().CheckSize(size); err != nil {
		return f.note(err)
	}
	return f.note(f.held.Resize(size, func() error { return f.f.Truncate(size) }))
}

// Touch changes times and modes of the open file. Whoever created it by this
// opening may do so without the right touch.
func (f *File) Touch(access, modified time.Time, mode *fs.FileMode) error {
	if !f.created {
		return f.t.Touch(f.path, access, modified, mode)
	}
	if mode != nil {
		if err := f.f.Chmod(f.t.umask(f.path).Masks(*mode & fs.ModePerm)); err != nil {
			return asFault(err)
		}
	}
	if access.IsZero() && modified.IsZero() {
		return nil
	}
	return asFault(f.setTimes(access, modified))
}

// setTimes goes by the name, inside the root: there is no portable call on an
// open file. It makes sure that the name still means this file.
func (f *File) setTimes(access, modified time.Time) error {
	p, err := f.t.resolve(f.path, true)
	if err != nil {
		return err
	}
	defer p.close()
	named, err := p.dir.Stat(p.name)
	if err != nil {
		return err
	}
	if mine, err := f.f.Stat(); err != nil || !os.SameFile(named, mine) {
		return errors.Join(err, fs.ErrNotExist)
	}
	return p.dir.Chtimes(p.name, access, modified)
}

// Sync brings the file's bytes to the disk.
func (f *File) Sync() error { return f.note(f.f.Sync()) }

// Close ends the transfer and returns once its record is on disk; only then may
// it be acknowledged.
func (f *File) Close() error { return f.end(nil) }

// Abort ends the transfer as not completed, for the given reason.
func (f *File) Abort(why error) { f.end(asFault(why)) }

func (f *File) end(why error) error {
	f.mu.Lock()
	if f.closed {
		f.mu.Unlock()
		return keep.Refuse(keep.BadRequest, "the file is closed")
	}
	f.closed = true
	if why == nil {
		why = f.broken
	}
	f.mu.Unlock()
	f.held.Close(f.f.Stat)
	if err := f.f.Close(); err != nil && why == nil {
		why = asFault(err)
	}
	action := keep.Downloading
	if f.mode.Write {
		action = keep.Uploading
	}
	r := f.t.base(action, f.path)
	r.Offset, r.Bytes, r.Duration = f.mode.Offset, f.moved.Load(), time.Since(f.started)
	f.t.ended(&r, why)
	f.meter.End(r.Outcome, r.Reason)
	if err := f.t.trail.Record(r); err != nil {
		return err
	}
	return why
}
