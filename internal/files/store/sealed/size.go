package sealed

import (
	"bufio"
	"io"
	"io/fs"
	"sync"
	"time"

	"filippo.io/age"
	"golang.org/x/crypto/chacha20poly1305"

	"urbankeep/internal/files/store"
)

// A file is a head, a nonce, and chunks that each have a tag, the last one shorter (age-encryption.org/v1, Payload).
const (
	nonceSize = 16
	chunkSize = 64 << 10
	tagSize   = chacha20poly1305.Overhead
)

// headOf gives the length of a file's head, 0 when it is none of ours.
func headOf(file io.Reader) int64 {
	head, err := age.ExtractHeader(bufio.NewReaderSize(file, 1<<10))
	if err != nil {
		return 0
	}
	return int64(len(head))
}

// sizeOf is how many bytes a file holds that has so many on the disk.
func sizeOf(lies, head int64) int64 {
	payload := lies - head - nonceSize
	if head == 0 || payload < tagSize {
		return lies // not sealed: what it is, it is
	}
	chunks := (payload + chunkSize + tagSize - 1) / (chunkSize + tagSize)
	return payload - chunks*tagSize
}

// maxSizes bounds the files whose heads are remembered: with them a long list is read at once.
const maxSizes = 1 << 17

// sizes remembers how long the heads of files are.
type sizes struct {
	mu   sync.Mutex
	head map[fileKey]int64
}

// fileKey is one content of a file.
type fileKey struct {
	file     [2]uint64
	size     int64
	modified time.Time
}

func keyOf(info fs.FileInfo) (fileKey, bool) {
	number, known := store.Number(info)
	return fileKey{number, info.Size(), info.ModTime()}, known
}

func (s *sizes) get(info fs.FileInfo) (int64, bool) {
	key, known := keyOf(info)
	if !known {
		return 0, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	head, known := s.head[key]
	return head, known
}

func (s *sizes) put(info fs.FileInfo, head int64) {
	key, known := keyOf(info)
	if !known {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.head == nil || len(s.head) >= maxSizes {
		s.head = map[fileKey]int64{}
	}
	s.head[key] = head
}
