package scratch

import (
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"sync"

	"golang.org/x/crypto/chacha20poly1305"
)

// Blocks are encrypted one by one, each time with another nonce, which stands before it. One of
// zeros that was never written is a hole of the file.
const (
	blockSize  = 64 << 10
	sealedSize = chacha20poly1305.NonceSizeX + blockSize + chacha20poly1305.Overhead
)

// File is a scratch file. Its methods may be called from several goroutines at once.
type File struct {
	mu    sync.Mutex
	f     *os.File
	aead  cipher.AEAD
	size  int64
	at    int64 // the number of the block in plain; -1: none
	plain [blockSize]byte
	dirty bool
	buf   [sealedSize]byte
	room  func() error
	grown int64 // how far there was room when that was asked last, bytes
}

// askRoom is how many bytes are written until it is asked anew whether there is room.
const askRoom = 16 << 20

// New makes a scratch file in a folder, which is made where it is missing. room says why there is no more room,
// nil while there is.
func New(folder string, room func() error) (*File, error) {
	if err := os.Mkdir(folder, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("make the folder of what is not whole yet: %w", err)
	}
	var key [chacha20poly1305.KeySize]byte
	rand.Read(key[:])
	aead, err := chacha20poly1305.NewX(key[:])
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(folder, "scratch-")
	if err != nil {
		return nil, fmt.Errorf("make a file for what is not whole yet: %w", err)
	}
	if runtime.GOOS != "windows" { // which removes it when it is closed
		if err := os.Remove(f.Name()); err != nil {
			return nil, errors.Join(err, f.Close())
		}
	}
	return &File{f: f, aead: aead, at: -1, room: room}, nil
}

// Size is how many bytes it holds.
func (s *File) Size() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.size
}

// load brings a block into plain.
func (s *File) load(n int64) error {
	if s.at == n {
		return nil
	}
	if err := s.flush(); err != nil {
		return err
	}
	s.at = -1
	read, err := s.f.ReadAt(s.buf[:], n*sealedSize)
	if err != nil && err != io.EOF {
		return err
	}
	if read < sealedSize || s.buf == [sealedSize]byte{} {
		clear(s.plain[:])
	} else if _, err := s.aead.Open(s.plain[:0], s.buf[:chacha20poly1305.NonceSizeX], s.buf[chacha20poly1305.NonceSizeX:], nil); err != nil {
		return fmt.Errorf("what is not whole yet can't be read back: %w", err)
	}
	s.at = n
	return nil
}

func (s *File) flush() error {
	if !s.dirty {
		return nil
	}
	nonce := s.buf[:chacha20poly1305.NonceSizeX]
	rand.Read(nonce)
	s.aead.Seal(nonce, nonce, s.plain[:], nil)
	if _, err := s.f.WriteAt(s.buf[:], s.at*sealedSize); err != nil {
		return err
	}
	s.dirty = false
	return nil
}

// ReadAt reads as [io.ReaderAt] does.
func (s *File) ReadAt(p []byte, off int64) (n int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	for n < len(p) && off < s.size {
		if err := s.load(off / blockSize); err != nil {
			return n, err
		}
		from := off % blockSize
		took := copy(p[n:], s.plain[from:min(blockSize, from+s.size-off)])
		n, off = n+took, off+int64(took)
	}
	if n < len(p) {
		err = io.EOF
	}
	return n, err
}

// WriteAt writes as [io.WriterAt] does.
func (s *File) WriteAt(p []byte, off int64) (n int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	if end := off + int64(len(p)); end > s.grown && s.room != nil {
		if err := s.room(); err != nil {
			return 0, err
		}
		s.grown = end + askRoom
	}
	for n < len(p) {
		if err := s.load(off / blockSize); err != nil {
			return n, err
		}
		took := copy(s.plain[off%blockSize:], p[n:])
		s.dirty = true
		n, off = n+took, off+int64(took)
		s.size = max(s.size, off)
	}
	return n, nil
}

// Truncate cuts or extends it.
func (s *File) Truncate(size int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if size < s.size && size%blockSize != 0 { // what is cut off in a block must be zeros if it grows again
		if err := s.load(size / blockSize); err != nil {
			return err
		}
		clear(s.plain[size%blockSize:])
		s.dirty = true
	}
	if size < s.size {
		if s.at*blockSize >= size {
			s.at, s.dirty = -1, false
		}
		if err := s.f.Truncate((size + blockSize - 1) / blockSize * sealedSize); err != nil {
			return err
		}
	}
	s.size = size
	return nil
}

// Close lets go of it and of what it holds.
func (s *File) Close() error {
	err := s.f.Close()
	if runtime.GOOS == "windows" {
		err = errors.Join(err, os.Remove(s.f.Name()))
	}
	return err
}
