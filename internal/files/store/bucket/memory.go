package bucket

import (
	"errors"
	"io"
	"sync"

	"urbankeep/internal/files/store/scratch"
)

// Memory bounds what all uploads to buckets hold at once: pieces of 1 MiB. What doesn't fit waits on
// the disk.
type Memory struct {
	mu   sync.Mutex
	left int
	idle [][]byte
}

const pieceSize = 1 << 20

// NewMemory gives room for so many bytes.
func NewMemory(bytes int) *Memory { return &Memory{left: bytes / pieceSize} }

func (m *Memory) take() []byte {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.left == 0 {
		return nil
	}
	m.left--
	if n := len(m.idle); n > 0 {
		piece := m.idle[n-1]
		m.idle = m.idle[:n-1]
		return piece
	}
	return make([]byte, pieceSize)
}

// give takes pieces back. Some are kept for the next upload.
func (m *Memory) give(pieces [][]byte) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.left += len(pieces)
	for _, p := range pieces {
		if len(m.idle) < 32 {
			m.idle = append(m.idle, p)
		}
	}
}

// part is a part that comes together: in memory, or on the disk once there is no more of that.
type part struct {
	memory *Memory
	pieces [][]byte
	work   *scratch.File
	size   int64
}

// errNoMemory says that a part can't grow in memory.
var errNoMemory = errors.New("there is no memory left for uploads")

// write adds bytes as far as there is room in memory, and gives how many.
func (p *part) write(b []byte) (n int, err error) {
	if p.work != nil {
		n, err := p.work.WriteAt(b, p.size)
		p.size += int64(n)
		return n, err
	}
	for n < len(b) {
		if p.size == int64(len(p.pieces))*pieceSize {
			piece := p.memory.take()
			if piece == nil {
				return n, errNoMemory
			}
			p.pieces = append(p.pieces, piece)
		}
		took := copy(p.pieces[len(p.pieces)-1][p.size%pieceSize:], b[n:])
		n, p.size = n+took, p.size+int64(took)
	}
	return n, nil
}

// toDisk moves what is there to the disk.
func (p *part) toDisk(work *scratch.File) error {
	if _, err := io.Copy(&ender{work: work}, p.loan()); err != nil {
		return err
	}
	p.memory.give(p.pieces)
	p.pieces, p.work = nil, work
	return nil
}

// patch changes what is there.
func (p *part) patch(b []byte, off int64) error {
	if p.work != nil {
		_, err := p.work.WriteAt(b, off)
		return err
	}
	for len(b) > 0 {
		n := copy(p.pieces[off/pieceSize][off%pieceSize:], b)
		b, off = b[n:], off+int64(n)
	}
	return nil
}

// loan lends the part for reading, until that ends. A client of HTTP may read a body after its call has
// returned with an error; by then the memory may be another upload's.
func (p *part) loan() *loan { return &loan{in: io.NewSectionReader(p, 0, p.size)} }

type loan struct {
	mu    sync.Mutex
	in    *io.SectionReader
	ended bool
}

var errEnded = errors.New("the upload has ended")

func (l *loan) Read(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ended {
		return 0, errEnded
	}
	return l.in.Read(b)
}

func (l *loan) Seek(offset int64, whence int) (int64, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ended {
		return 0, errEnded
	}
	return l.in.Seek(offset, whence)
}

func (l *loan) end() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.ended = true
}

// ReadAt reads as [io.ReaderAt] does.
func (p *part) ReadAt(b []byte, off int64) (n int, err error) {
	if p.work != nil {
		return p.work.ReadAt(b, off)
	}
	for n < len(b) && off < p.size {
		took := copy(b[n:], p.pieces[off/pieceSize][off%pieceSize:min(pieceSize, off%pieceSize+p.size-off)])
		n, off = n+took, off+int64(took)
	}
	if n < len(b) {
		err = io.EOF
	}
	return n, err
}

func (p *part) free() {
	p.memory.give(p.pieces)
	p.pieces = nil
	if p.work != nil {
		p.work.Close()
		p.work = nil
	}
}

type ender struct {
	work *scratch.File
	at   int64
}

func (e *ender) Write(b []byte) (int, error) {
	n, err := e.work.WriteAt(b, e.at)
	e.at += int64(n)
	return n, err
}
