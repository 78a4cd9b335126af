package whole

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/keep"
)

// Contents are the bytes of something that is whole.
type Contents interface {
	io.ReaderAt
	io.Closer
}

// Sink takes a new content, from its beginning to its end. It is used by one goroutine at a time.
type Sink interface {
	io.Writer
	// Commit makes all of it appear under the name, on the medium if lasting.
	Commit(lasting bool) error
	// Back gives what was written for reading, instead; nothing can be written any more.
	Back() (Contents, error)
	// Drop lets go of it, also after Back.
	Drop() error
}

// Patcher is a sink that can still change some of what was written to it; otherwise the error is
// [ErrForward].
type Patcher interface {
	Patch(b []byte, off int64) error
}

// ErrForward refuses to go back in what can't be read back.
var ErrForward = keep.Refuse(keep.BadRequest, "this store takes a file from its beginning to its end: write it in that order, or open it for reading too")

// Place is what a file is made of by its kind of store.
type Place struct {
	New     bool                     // nothing is under the name yet: it appears even if nothing is written
	Size    int64                    // of what is under the name, bytes
	Old     func() (Contents, error) // opens that
	Begin   func() (Sink, error)     // begins a new content
	Scratch func() (*scratch.File, error)
	Random  bool                                   // a file that is opened for reading too is worked on in a scratch file from the first write on
	Keep    bool                                   // what came of an upload that was cut off is kept
	Facts   func(size int64) fs.FileInfo           // of the open file
	After   func() (fs.FileInfo, error)            // what is under the name when the file has ended
	Ended   func()                                 // is called once, in the end
	Mode    func(mode fs.FileMode) error           // sets the mode; nil: the kind keeps none
	Times   func(access, modified time.Time) error // sets the times that are not zero; nil: the kind keeps none
}

// maxHole bounds what is made up of zeros behind the end of what is there, bytes: a content has no holes.
const maxHole = 1 << 30

// ErrHole refuses a write far behind the end.
var ErrHole = keep.Refuse(keep.TooLarge, "the files of this store have no holes: write what comes before that first")

// errThere refuses to make what is being made.
var errThere = &fs.PathError{Op: "open", Path: "file", Err: fs.ErrExist}

// errLate refuses what comes after the end.
var errLate = &fs.PathError{Op: "use", Path: "file", Err: fs.ErrClosed}

// Files are the files of a store that are open for writing. Who opens one once more works on the same, as
// on a disk; what is under the name is shown as it is in work. Its zero value is ready.
type Files struct {
	mu   sync.Mutex
	open map[any]*core // by what the kind tells files apart
}

// Facts are those of a file that is open for writing, nil when it is not.
func (fs *Files) Facts(key any) fs.FileInfo {
	if c := fs.find(key); c != nil && !c.closed.Load() {
		return c.p.Facts(c.shown.Load())
	}
	return nil
}

func (fs *Files) find(key any) *core {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	return fs.open[key]
}

// Any reports whether a file is open for writing whose key is such.
func (fs *Files) Any(such func(key any) bool) bool {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	for key := range fs.open {
		if such(key) {
			return true
		}
	}
	return false
}

// Alias lets an open file be known by another key too: it is about to have another content. What is
// given drops one of the two.
func (fs *Files) Alias(key, other any) (drop func(key any)) {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	c := fs.open[key]
	if c == nil {
		return func(any) {}
	}
	fs.open[other] = c
	return func(gone any) {
		fs.mu.Lock()
		defer fs.mu.Unlock()
		delete(fs.open, gone)
		if gone == c.key {
			c.key = other
		}
	}
}

// Open opens a file at a place with the flags of [os.OpenFile]. If it is open for writing already and is opened
// for that again, nothing comes of the place, which is ended; [os.O_EXCL] refuses that.
func (fs *Files) Open(key any, flag int, p Place) (*File, error) {
	if flag&(os.O_WRONLY|os.O_RDWR) == 0 {
		return &File{core: newCore(p), flag: flag}, nil
	}
	var ending *core
	for {
		fs.mu.Lock()
		c := fs.open[key]
		if c == nil || c == ending {
			c = newCore(p)
			c.files, c.key = fs, key
			if fs.open == nil {
				fs.open = map[any]*core{}
			}
			fs.open[key] = c
			fs.mu.Unlock()
			return &File{core: c, flag: flag}, nil
		}
		fs.mu.Unlock()
		if flag&os.O_EXCL != 0 && !c.closed.Load() {
			p.Ended()
			return nil, errThere
		}
		if c.join() {
			p.Ended()
			return &File{core: c, flag: flag}, nil
		}
		ending = c
	}
}

// core is a file that is open, however often.
type core struct {
	p     Place
	files *Files // nil when it is only read
	key   any

	mu      sync.Mutex
	handles int
	old     Contents // opened when it is needed
	rest    int64    // how many bytes of the old content count still
	size    int64    // of the file
	changed bool
	sink    Sink  // what is written now; nil: nothing yet
	pos     int64 // how much that has
	work    *scratch.File
	broken  error // the first error of what is written

	shown  atomic.Int64 // size, for who looks at the name
	closed atomic.Bool  // nobody has it open any more
}

func newCore(p Place) *core {
	c := &core{p: p, size: p.Size, rest: p.Size, changed: p.New, handles: 1}
	c.shown.Store(c.size)
	return c
}

// join reports whether it was open still, and is once more.
func (f *core) join() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.handles == 0 || f.broken != nil {
		return false
	}
	f.handles++
	return true
}

// File is one opening of a file. Its methods may be called from several goroutines at once.
type File struct {
	*core
	flag int

	// guarded by core.mu:
	seek  int64
	ended bool
}

func (f *File) writable() error {
	switch {
	case f.ended:
		return errLate
	case f.flag&(os.O_WRONLY|os.O_RDWR) == 0:
		return &fs.PathError{Op: "write", Path: "file", Err: syscall.EBADF}
	}
	return f.broken
}

func (f *core) opened() (Contents, error) {
	if f.old == nil {
		old, err := f.p.Old()
		if err != nil {
			return nil, err
		}
		f.old = old
	}
	return f.old, nil
}

// Read reads on from where the file stands.
func (f *File) Read(b []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n, err := f.readAt(b, f.seek)
	f.seek += int64(n)
	if n > 0 && err == io.EOF {
		err = nil
	}
	return n, err
}

// ReadAt reads as [io.ReaderAt] does.
func (f *File) ReadAt(b []byte, off int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.readAt(b, off)
}

func (f *File) readAt(b []byte, off int64) (int, error) {
	if f.ended {
		return 0, errLate
	}
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	if f.sink != nil || f.changed && f.size != f.rest {
		if err := f.toScratch(); err != nil {
			return 0, err
		}
	}
	if f.work != nil {
		return f.work.ReadAt(b, off)
	}
	if off >= f.rest {
		return 0, io.EOF
	}
	old, err := f.opened()
	if err != nil {
		return 0, err
	}
	whole := len(b)
	b = b[:min(int64(len(b)), f.rest-off)]
	n, err := old.ReadAt(b, off)
	switch {
	case n == whole:
		err = nil
	case err == nil:
		err = io.EOF
	}
	return n, err
}

// Seek goes somewhere.
func (f *File) Seek(offset int64, whence int) (int64, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch whence {
	case io.SeekCurrent:
		offset += f.seek
	case io.SeekEnd:
		offset += f.size
	}
	if offset < 0 {
		return f.seek, fs.ErrInvalid
	}
	f.seek = offset
	return offset, nil
}

// Write writes on from where the file stands, at its end if it was opened to append.
func (f *File) Write(b []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.flag&os.O_APPEND != 0 {
		f.seek = f.size
	}
	n, err := f.writeAt(b, f.seek)
	f.seek += int64(n)
	return n, err
}

// WriteAt writes as [io.WriterAt] does.
func (f *File) WriteAt(b []byte, off int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.writeAt(b, off)
}

func (f *File) writeAt(b []byte, off int64) (int, error) {
	if err := f.writable(); err != nil {
		return 0, err
	}
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	if off > max(f.size, f.pos)+maxHole {
		return 0, ErrHole
	}
	if len(b) == 0 {
		return 0, nil
	}
	if patcher, can := f.sink.(Patcher); can && off < f.pos && off+int64(len(b)) <= f.pos {
		if err := patcher.Patch(b, off); err != ErrForward {
			return len(b), f.fails(err)
		}
	}
	if f.work == nil && (off < f.pos || f.p.Random && f.flag&os.O_RDWR != 0 && f.sink == nil) {
		if err := f.toScratch(); err != nil {
			return 0, err
		}
	}
	f.changed = true
	var n int
	var err error
	if f.work != nil {
		n, err = f.work.WriteAt(b, off)
	} else if err = f.fill(off); err == nil {
		n, err = f.sink.Write(b)
		f.pos += int64(n)
	}
	f.size = max(f.size, off+int64(n))
	f.shown.Store(f.size)
	return n, f.fails(err)
}

// fails keeps the first error: what is missing can't be made good.
func (f *core) fails(err error) error {
	if err != nil && f.broken == nil {
		f.broken = err
	}
	return err
}

// piece is how much is copied at once, bytes.
const piece = 256 << 10

var pieces = sync.Pool{New: func() any { return new([piece]byte) }}

// fill brings the sink up to an offset: with the old content as far as that goes, then with zeros.
func (f *core) fill(to int64) (err error) {
	if f.sink == nil {
		if f.sink, err = f.p.Begin(); err != nil {
			return err
		}
	}
	if f.pos < min(to, f.rest) {
		old, err := f.opened()
		if err != nil {
			return err
		}
		n, err := pour(f.sink, old, f.pos, min(to, f.rest)-f.pos)
		if f.pos += n; err != nil {
			return err
		}
	}
	for f.pos < to {
		n, err := f.sink.Write(zeros[:min(to-f.pos, int64(len(zeros)))])
		if f.pos += int64(n); err != nil {
			return err
		}
	}
	return nil
}

var zeros [piece]byte

// pour copies so many bytes.
func pour(w io.Writer, from io.ReaderAt, off, length int64) (int64, error) {
	buf := pieces.Get().(*[piece]byte)
	defer pieces.Put(buf)
	done := int64(0)
	for done < length {
		n, err := from.ReadAt(buf[:min(piece, length-done)], off+done)
		if n > 0 {
			if _, werr := w.Write(buf[:n]); werr != nil {
				return done, werr
			}
			done += int64(n)
		}
		if err == io.EOF && done < length {
			err = io.ErrUnexpectedEOF
		}
		if err != nil && done < length {
			return done, err
		}
	}
	return done, nil
}

// toScratch goes on with a scratch file that holds what the file holds by now.
func (f *core) toScratch() (err error) {
	if f.work != nil {
		return nil
	}
	work, err := f.p.Scratch()
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = f.fails(errors.Join(err, work.Close()))
		}
	}()
	at := &ender{work, 0}
	if f.sink != nil {
		back, err := f.sink.Back()
		if err != nil {
			return err
		}
		_, err = pour(at, back, 0, f.pos)
		if err = errors.Join(err, back.Close(), f.sink.Drop()); err != nil {
			return err
		}
		f.sink = nil
	}
	if f.pos < f.rest {
		old, err := f.opened()
		if err != nil {
			return err
		}
		at.at = f.pos
		if _, err := pour(at, old, f.pos, f.rest-f.pos); err != nil {
			return err
		}
	}
	if err := work.Truncate(f.size); err != nil {
		return err
	}
	f.work, f.pos = work, 0
	return nil
}

// ender writes at the end of a scratch file.
type ender struct {
	work *scratch.File
	at   int64
}

func (e *ender) Write(b []byte) (int, error) {
	n, err := e.work.WriteAt(b, e.at)
	e.at += int64(n)
	return n, err
}

// Truncate cuts or extends the file.
func (f *File) Truncate(size int64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.writable(); err != nil {
		return err
	}
	switch {
	case size < 0:
		return fs.ErrInvalid
	case size == f.size:
		return nil
	case size > f.size+maxHole:
		return ErrHole
	case size < f.pos:
		if err := f.toScratch(); err != nil {
			return err
		}
	}
	if f.work != nil {
		if err := f.work.Truncate(size); err != nil {
			return f.fails(err)
		}
	}
	f.rest, f.size, f.changed = min(f.rest, size), size, true
	f.shown.Store(size)
	return nil
}

// Stat gives the facts: of the open file, and once it has ended of what is under its name.
func (f *File) Stat() (fs.FileInfo, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.ended {
		return f.p.After()
	}
	return f.p.Facts(f.size), nil
}

// Chmod sets the mode, where the kind keeps one.
func (f *File) Chmod(mode fs.FileMode) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.p.Mode == nil {
		return errors.ErrUnsupported
	}
	return f.p.Mode(mode)
}

// SetTimes sets the times, where the kind keeps them.
func (f *File) SetTimes(access, modified time.Time) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.p.Times == nil {
		return errors.ErrUnsupported
	}
	return f.p.Times(access, modified)
}

// Sync makes what was written so far appear under the name, on the medium.
func (f *File) Sync() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.ended {
		return errLate
	}
	return f.settle(true)
}

// settle makes what was written so far appear, after which more may be written.
func (f *core) settle(lasting bool) error {
	if f.broken != nil || !f.changed {
		return f.broken
	}
	if err := f.commit(lasting); err != nil {
		return f.fails(err)
	}
	f.changed, f.rest, f.pos = false, f.size, 0
	if f.old != nil { // it is another one now
		f.old.Close()
		f.old = nil
	}
	return nil
}

// commit makes the content appear.
func (f *core) commit(lasting bool) (err error) {
	if f.work != nil {
		if f.sink, err = f.p.Begin(); err == nil {
			_, err = pour(f.sink, f.work, 0, f.size)
		}
	} else {
		err = f.fill(f.size)
	}
	if err == nil {
		err = f.sink.Commit(lasting)
	}
	if err != nil {
		return err
	}
	f.sink = nil
	return nil
}

// Close drops what was written, unless somebody else has the file open too.
func (f *File) Close() error { return f.end(false, false, false) }

// End ends the file; see store.Whole.
func (f *File) End(whole, lasting bool) error { return f.end(whole, lasting, f.p.Keep) }

func (f *File) end(whole, lasting, keeps bool) (err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.ended {
		return errLate
	}
	f.ended = true
	f.handles--
	switch {
	case f.broken != nil && whole:
		err = fmt.Errorf("what was written before is not whole: %w", f.broken)
	case whole || keeps && f.handles == 0 && f.broken == nil:
		err = f.settle(lasting)
	}
	if f.handles > 0 {
		return err
	}
	f.closed.Store(true)
	if f.files != nil {
		f.files.forget(f.core)
	}
	if f.sink != nil {
		err = errors.Join(err, f.sink.Drop())
	}
	if f.work != nil {
		err = errors.Join(err, f.work.Close())
	}
	if f.old != nil {
		err = errors.Join(err, f.old.Close())
	}
	f.p.Ended()
	return err
}

// forget lets go of a file that nobody has open.
func (fs *Files) forget(c *core) {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	if fs.open[c.key] == c {
		delete(fs.open, c.key)
	}
}
