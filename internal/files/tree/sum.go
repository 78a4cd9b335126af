package tree

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"sync"
)

// sum is the hash of an upload that is written from its beginning to its end. Of nil, nobody wants
// to know it.
type sum struct {
	mu    sync.Mutex
	of    hash.Hash // nil once something was written in another order
	bytes int64
}

// newSum is one of an upload from its beginning on; nil: it is not.
func newSum(mode OpenMode) *sum {
	if mode.Offset > 0 || !mode.Truncate && !mode.Create || mode.Append {
		return nil
	}
	return &sum{of: sha256.New()}
}

// add takes what was written at an offset; a negative one is the end.
func (s *sum) add(b []byte, off int64) {
	if s == nil || len(b) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil {
		return
	}
	if off >= 0 && off != s.bytes {
		s.of = nil
		return
	}
	s.of.Write(b)
	s.bytes += int64(len(b))
}

// whole gives the hash of a file of so many bytes, "" when that is not what was added.
func (s *sum) whole(size int64) string {
	if s == nil {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil || s.bytes != size {
		return ""
	}
	return hex.EncodeToString(s.of.Sum(nil))
}
