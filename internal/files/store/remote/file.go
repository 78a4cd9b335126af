package remote

import (
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"sync"
	"syscall"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/sftpclient"
)

// file is an open file of the other server. Writes are on their way while the next come, and reads ahead of who
// reads on; both a bounded way.
type file struct {
	f       *folder
	c       *sftpclient.Client
	name    string
	handle  string
	writes  bool
	appends bool

	mu      sync.Mutex
	size    int64
	seek    int64
	writing []write // sent, and not answered
	failed  error
	ahead   []piece // asked for, from seen on
	seen    int64   // where the read before ended; -1: none was
	data    []byte  // what came and was not read yet
	closed  bool
}

type write struct {
	done  <-chan sftpclient.Answer
	bytes int
}

type piece struct {
	data <-chan sftpclient.Answer
	at   int64
	n    int
}

// How much may be on its way for one file, bytes.
const (
	maxWriting = 2 << 20
	maxAhead   = 2 << 20
)

func (o *file) wrong(op string, err error) error { return o.f.s.wrong(op, o.name, err) }

// settle waits until no more than so many bytes are on their way.
func (o *file) settle(most int) error {
	sum := 0
	for _, w := range o.writing {
		sum += w.bytes
	}
	for len(o.writing) > 0 && sum > most {
		_, _, err := o.c.Wait(o.writing[0].done)
		sum -= o.writing[0].bytes
		o.writing = o.writing[1:]
		if err != nil && o.failed == nil {
			o.failed = o.wrong("write", err)
		}
	}
	return o.failed
}

func (o *file) WriteAt(b []byte, off int64) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.writeAt(b, off)
}

func (o *file) writeAt(b []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	if !o.writes {
		return 0, &fs.PathError{Op: "write", Path: o.name, Err: syscall.EBADF}
	}
	o.dropAhead()
	for n < len(b) {
		if err := o.settle(maxWriting); err != nil {
			return n, err
		}
		part := b[n:min(len(b), n+o.c.MaxWrite())]
		o.writing = append(o.writing, write{o.c.SendWrite(o.handle, off+int64(n), part), len(part)})
		n += len(part)
		o.size = max(o.size, off+int64(n))
	}
	return n, o.failed
}

func (o *file) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.appends {
		o.seek = o.size
	}
	n, err := o.writeAt(b, o.seek)
	o.seek += int64(n)
	return n, err
}

func (o *file) Read(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	n, err := o.readAt(b, o.seek)
	o.seek += int64(n)
	if n > 0 && err == io.EOF {
		err = nil
	}
	return n, err
}

func (o *file) ReadAt(b []byte, off int64) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.readAt(b, off)
}

func (o *file) readAt(b []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	if err := o.settle(0); err != nil {
		return 0, err
	}
	if off != o.seen {
		o.dropAhead()
	}
	sequential := off == o.seen || off == 0
	for n < len(b) {
		if len(o.data) > 0 {
			took := copy(b[n:], o.data)
			o.data, n = o.data[took:], n+took
			continue
		}
		at := off + int64(n)
		if len(o.ahead) == 0 {
			o.ask(at, len(b)-n)
		}
		if sequential {
			o.askOn()
		}
		first := o.ahead[0]
		o.ahead = o.ahead[1:]
		data, err := o.c.Data(first.data)
		if err != nil {
			o.seen = -1
			o.dropAhead()
			if err == io.EOF {
				return n, io.EOF
			}
			return n, o.wrong("read", err)
		}
		if o.data = data; len(data) < first.n { // what was asked behind it begins too late
			o.forget()
		}
	}
	o.seen = off + int64(n)
	return n, nil
}

func (o *file) ask(at int64, n int) {
	n = min(n, o.c.MaxRead())
	o.ahead = append(o.ahead, piece{o.c.SendRead(o.handle, at, n), at, n})
}

// askOn asks for what comes after what was asked for, as far as there is room and the file goes.
func (o *file) askOn() {
	last := o.ahead[len(o.ahead)-1]
	for next, sum := last.at+int64(last.n), len(o.ahead)*o.c.MaxRead(); sum < maxAhead && next < o.size; sum += o.c.MaxRead() {
		o.ask(next, o.c.MaxRead())
		next += int64(o.c.MaxRead())
	}
}

// forget lets what was asked for come and go.
func (o *file) forget() { o.ahead = nil }

func (o *file) dropAhead() { o.ahead, o.data = nil, nil }

func (o *file) Seek(offset int64, whence int) (int64, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch whence {
	case io.SeekCurrent:
		offset += o.seek
	case io.SeekEnd:
		offset += o.size
	}
	if offset < 0 {
		return o.seek, fs.ErrInvalid
	}
	o.seek = offset
	return offset, nil
}

func (o *file) Stat() (fs.FileInfo, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := o.settle(0); err != nil {
		return nil, err
	}
	a, err := o.c.Fstat(o.handle)
	if err != nil {
		return nil, o.wrong("stat", err)
	}
	return o.f.facts(o.name, a), nil
}

// set sends attributes of the open file.
func (o *file) set(op string, attrs []byte) error {
	if err := o.settle(0); err != nil {
		return err
	}
	return o.wrong(op, o.c.Do(sftpclient.PktFsetstat, sftpclient.Str(o.handle), attrs))
}

func (o *file) Truncate(size int64) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.dropAhead()
	if err := o.set("truncate", sftpclient.Size(size)); err != nil {
		return err
	}
	o.size = size
	return nil
}

func (o *file) Chmod(mode fs.FileMode) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.set("set mode", sftpclient.Mode(mode))
}

// SetTimes sets the times that are not zero.
func (o *file) SetTimes(access, modified time.Time) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := o.settle(0); err != nil {
		return err
	}
	a, err := o.c.Fstat(o.handle)
	if err != nil {
		return o.wrong("set times", err)
	}
	return o.set("set times", times(a, access, modified))
}

// Sync asks the server to bring the file to its medium, where it can.
func (o *file) Sync() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := o.settle(0); err != nil {
		return err
	}
	_, _, err := o.c.Extended("fsync@openssh.com", sftpclient.Str(o.handle))
	if status := (*sftpclient.Status)(nil); errors.As(err, &status) && status.Code == sftpclient.StatusUnsupported {
		return nil
	}
	return o.wrong("sync", err)
}

func (o *file) Close() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.closed {
		return fs.ErrClosed
	}
	o.closed = true
	err := o.settle(0)
	return errors.Join(err, o.wrong("close", o.c.CloseHandle(o.handle)))
}

// spaceOf reads an answer to statvfs@openssh.com.
func spaceOf(body []byte) (space store.Space, err error) {
	if len(body) < 11*8 {
		return space, errors.ErrUnsupported
	}
	n := func(i int) uint64 { return binary.BigEndian.Uint64(body[8*i:]) }
	fragment := n(1)
	return store.Space{Bytes: n(2) * fragment, Unused: n(3) * fragment, FreeBytes: n(4) * fragment, Files: n(5), FreeFiles: n(7)}, nil
}
