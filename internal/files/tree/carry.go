package tree

import (
	"context"
	"io"
	"sync"
	"time"

	"urbankeep/internal/keep"
)

// stop ends the transfer from outside: nothing moves from now on.
func (f *File) stop(why *keep.Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.Ended() == nil {
		f.broken = why
		f.ended(why)
	}
}

// Ending ends when somebody ends the transfer; a protocol that waits for its client then stops waiting.
func (f *File) Ending() context.Context { return f.ending }

// Ended says why somebody ended the transfer, nil while nobody did.
func (f *File) Ended() error { return context.Cause(f.ending) }

// Reserve has so many bytes of the file move for sure, or none: for a protocol that says how many will come before they do.
func (f *File) Reserve(bytes int64) error {
	if err := f.Ended(); err != nil {
		return err
	}
	_, err := f.meter.Reserve(bytes, true)
	if err != nil {
		return f.note(err)
	}
	f.mu.Lock()
	f.reserved += bytes
	f.mu.Unlock()
	return nil
}

// piece asks, before each piece that moves, what every loop must ask: is the transfer ended, and how many bytes may move? What
// of them has not moved then is let go of.
func (f *File) piece(want int64) (may int64, err error) {
	if err := f.Ended(); err != nil {
		return 0, err
	}
	f.mu.Lock()
	may = min(want, f.reserved)
	f.reserved -= may
	f.mu.Unlock()
	if may < want || want == 0 {
		more, err := f.meter.Reserve(want-may, false)
		if may += more; err != nil && may == 0 {
			return 0, f.note(err)
		}
	}
	return may, nil
}

func (f *File) letGo(bytes int64) {
	if bytes > 0 {
		f.meter.Release(bytes)
	}
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
		part := min(slice, length)
		if chunk := f.meter.Chunk(); chunk > 0 {
			part = min(part, int64(chunk))
		}
		part, err := f.piece(part)
		if err != nil {
			return err
		}
		if kernel {
			n, err = io.CopyN(w, f.f, part)
		} else {
			n, err = io.CopyBuffer(w, io.LimitReader(plainReader{f.f}, part), buf[:])
			if err == nil && n < part {
				err = io.EOF
			}
		}
		f.letGo(part - n)
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
