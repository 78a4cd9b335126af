package sealed

import (
	"io"
	"sync"
)

// blockSize is how much is decrypted ahead of who reads on, bytes.
const blockSize = 8 * chunkSize

var blocks = sync.Pool{New: func() any { return new([blockSize]byte) }}

// block is a piece of the contents.
type block struct {
	at   int64
	n    int
	err  error
	room *[blockSize]byte
}

// ahead reads contents, and decrypts the next block while the one before is used, once somebody reads on. It is used by one
// goroutine at a time.
type ahead struct {
	in   io.ReaderAt
	size int64
	now  block      // room is nil when there is none
	next chan block // nil when none is on its way
	from int64      // where that begins
	ends int64      // where the read before ended
}

func (a *ahead) load(at int64) block {
	b := block{at: at, room: blocks.Get().(*[blockSize]byte)}
	b.n, b.err = a.in.ReadAt(b.room[:min(blockSize, a.size-at)], at)
	if b.err == io.EOF && int64(b.n) == min(blockSize, a.size-at) {
		b.err = nil
	}
	return b
}

// fetch has a block loaded.
func (a *ahead) fetch(at int64) {
	if at >= a.size {
		return
	}
	next := make(chan block, 1)
	a.next, a.from = next, at
	go func() { next <- a.load(at) }() // ends by itself; Close waits for it
}

// drop lets go of what was loaded.
func (a *ahead) drop() {
	if a.next != nil {
		b := <-a.next
		blocks.Put(b.room)
		a.next = nil
	}
	if a.now.room != nil {
		blocks.Put(a.now.room)
		a.now = block{}
	}
}

// ReadAt reads as [io.ReaderAt] does.
func (a *ahead) ReadAt(p []byte, off int64) (n int, err error) {
	if off >= a.size {
		return 0, io.EOF
	}
	inside := a.now.room != nil && off >= a.now.at && off < a.now.at+int64(a.now.n) || a.next != nil && off == a.from
	if !inside && (off != a.ends || off%chunkSize != 0) { // here and there: only what is asked for
		a.drop()
		n, err = a.in.ReadAt(p, off)
		a.ends = off + int64(n)
		return n, err
	}
	for n < len(p) && off < a.size {
		if a.now.room == nil || off < a.now.at || off >= a.now.at+int64(a.now.n) {
			if err := a.step(off); err != nil {
				return n, err
			}
		}
		took := copy(p[n:], a.now.room[off-a.now.at:a.now.n])
		n, off = n+took, off+int64(took)
	}
	if a.ends = off; n < len(p) {
		err = io.EOF
	}
	return n, err
}

// step goes on to the block that holds an offset.
func (a *ahead) step(off int64) error {
	if a.next == nil || a.from != off {
		a.drop()
		a.now = a.load(off)
	} else {
		if a.now.room != nil {
			blocks.Put(a.now.room)
		}
		a.now, a.next = <-a.next, nil
	}
	if err := a.now.err; err != nil {
		a.drop()
		return err
	}
	a.fetch(a.now.at + int64(a.now.n))
	return nil
}

func (a *ahead) Close() error {
	a.drop()
	return nil
}
