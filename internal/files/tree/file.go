package tree

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// File is an open file whose use is measured, and recorded when it is closed.
// Its methods may be called from several goroutines at once.
type File struct {
	t       *Tree
	f       store.File
	path    string
	mode    OpenMode
	created bool // by this open, so that its times and modes are still the client's to set
	started time.Time
	meter   Meter
	held    *quota.File // nil when it is not open for writing
	in      *place      // where it lies, if its bytes and name must outlive the end of the power; else nil
	moved   atomic.Int64
	before  int64       // when a file that is written in place was changed last; 0: it is none, or nobody knows
	dirty   atomic.Bool // and it was written

	recorded func(keep.AuditRecord) error // ends what was announced
	sum      *sum                         // nil: nobody wants to know
	part     *part                        // it is not under its name yet; nil: it is
	replaces bool                         // a file that was there is gone
	waits    bool                         // it has come, and is held until it is checked
	filled   bool                         // it was an empty file that was made to be filled; see [Fresh]
	lies     quota.Spot                   // where that lies

	wrote func(came keep.HeldState, size int64, hash string) error // ends the change of a held upload; nil: it is none

	ending context.Context // ends when somebody ends the transfer
	ended  context.CancelCauseFunc

	mu       sync.Mutex
	broken   error // the first error of a read or write, or why it was ended
	closed   bool
	reserved int64 // bytes that may move, and have not
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
	if f.mode.Write { // none of it goes to the client
		n, err := f.f.ReadAt(p, off)
		if err == io.EOF {
			return n, io.EOF
		}
		return n, f.note(cmp.Or(f.Ended(), err))
	}
	may, err := f.piece(int64(len(p)))
	if err != nil {
		return 0, err
	}
	n, err := f.f.ReadAt(p[:may], off)
	f.letGo(may - int64(n))
	f.meter.Pace(n)
	f.count(n)
	if err == nil && may < int64(len(p)) {
		return n, nil // as much as may move; the next piece says why no more
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
	if err := quota.CheckEnd(off, int64(len(p))); err != nil {
		return 0, f.note(err)
	}
	for {
		may, err := f.piece(int64(len(p) - n))
		if err != nil {
			return n, err
		}
		wrote, err := f.write(p[n:n+int(may)], off+int64(n))
		f.letGo(may - int64(wrote))
		if n += wrote; err != nil || n == len(p) {
			return n, err
		}
	}
}

func (f *File) write(p []byte, off int64) (n int, err error) {
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
	f.dirty.Store(true)
	f.count(n)
	f.sum.add(p[:max(n, 0)], off)
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

// Resize cuts or extends the open file, bytes.
func (f *File) Resize(size int64) error {
	if !f.mode.Write {
		return keep.Refuse(keep.BadRequest, "the file was not opened for writing")
	}
	if err := errors.Join(quota.CheckEnd(0, size), f.t.policy.Load().CheckSize(size)); err != nil {
		return f.note(err)
	}
	f.dirty.Store(true)
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

// setTimes goes by the open file where the system can, else by its name, after a look
// that it still means this file.
func (f *File) setTimes(access, modified time.Time) error {
	if err := store.FileTimes(f.f, access, modified); !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	defer f.t.deed(f.path)()
	p, err := f.t.resolve(f.path, true, keep.Upload)
	if err != nil {
		return err
	}
	defer p.close()
	if p.err != nil {
		return p.err
	}
	if mine, err := f.f.Stat(); err != nil || !store.Same(p.seen, mine) {
		return errors.Join(err, fs.ErrNotExist)
	}
	return p.dir.SetTimes(p.name, access, modified)
}

// Sync brings the file's bytes to the disk.
func (f *File) Sync() error { return f.note(f.f.Sync()) }

// Waits reports whether Close may take long: where the medium, another machine or a check has its say.
func (f *File) Waits() bool {
	_, plain := f.f.(*os.File)
	return !plain || f.in != nil || f.part != nil || f.wrote != nil || f.t.power == nil || f.t.power()
}

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
	note, hash := "", ""
	fresh := f.mode.Unfilled && f.created && f.t.fresh != nil && why == nil && f.moved.Load() == 0
	if f.part != nil {
		var err error
		if note, hash, err = f.settlePart(why); err != nil {
			why = asFault(err)
		}
	} else {
		size := int64(-1)
		if f.sum != nil || f.wrote != nil {
			if info, err := f.f.Stat(); err == nil {
				size = info.Size()
			}
		}
		if err := f.settle(why == nil); err != nil && why == nil {
			why = asFault(err)
		}
		hash = f.sum.whole(size)
		if f.wrote != nil && !fresh {
			if err := f.wrote(came(why == nil), max(size, 0), hash); err != nil && why == nil {
				why = asFault(err)
			}
			f.waits = why == nil
		}
	}
	if f.filled && why == nil {
		f.replaces = false
		f.t.fresh.over(f.lies)
	}
	action := keep.Downloading
	if f.mode.Write {
		action = keep.Uploading
	}
	r := f.t.base(action, f.path)
	r.Offset, r.Bytes, r.Duration = f.mode.Offset, f.moved.Load(), time.Since(f.started)
	f.t.ended(&r, why)
	if why == nil {
		r.Hash, r.Replaced, r.Held, r.Piece = hash, f.replaces, f.waits, note != ""
		r.Detail = strings.TrimSuffix(note+"; "+r.Detail, "; ")
	}
	f.mu.Lock()
	left := f.reserved
	f.reserved = 0
	f.mu.Unlock()
	f.letGo(left)
	f.meter.End(r.Outcome, r.Reason)
	if fresh && why == nil {
		if f.leaveFresh(r) {
			return nil
		}
		if f.wrote != nil {
			if why = asFault(f.wrote(keep.HeldWaiting, 0, emptyHash)); why == nil {
				r.Held = true
			}
		}
	}
	if err := f.recorded(r); err != nil {
		return err
	}
	return why
}

// settle closes the file, and where an acknowledgement promises that, brings it and its name
// to the medium before.
func (f *File) settle(whole bool) (err error) {
	if f.in != nil {
		defer f.in.close()
	}
	if w, is := f.f.(store.Whole); is {
		err = w.End(whole, f.in != nil)
		f.held.Close(func() (fs.FileInfo, error) {
			info, err := w.Stat()
			if errors.Is(err, fs.ErrNotExist) {
				err = quota.ErrNever
			}
			return info, err
		})
		if info, looked := w.Stat(); looked == nil && f.created {
			f.t.made.add(f.path, info)
		}
		return err
	}
	f.told()
	if f.in != nil && whole {
		err = f.f.Sync()
	}
	f.held.Close(f.f.Stat)
	err = errors.Join(err, f.f.Close())
	if f.in != nil && f.created && whole && err == nil {
		err = store.Sync(f.in.dir)
	}
	return err
}
