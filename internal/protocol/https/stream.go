package https

import (
	"net/http"
	"sync"
	"time"
)

// stream is the answer of one HTTP/2 stream, whose writes fail when the client takes nothing of it for too long (RFC 9113, section
// 5.2: it says itself how much it takes).
type stream struct {
	http.ResponseWriter
	stall time.Duration

	mu      sync.Mutex
	timer   *time.Timer
	waiting bool // a write is under way
	over    bool
}

// taken is what must be taken within the bound, bytes.
const taken = 64 << 10

func (s *stream) Write(p []byte) (n int, err error) {
	for {
		s.wait(true)
		wrote, err := s.ResponseWriter.Write(p[:min(len(p), taken)])
		s.wait(false)
		n += wrote
		if p = p[wrote:]; err != nil || len(p) == 0 {
			return n, err
		}
	}
}

// Flush sends what is written.
func (s *stream) Flush() {
	s.wait(true)
	defer s.wait(false)
	http.NewResponseController(s.ResponseWriter).Flush()
}

// Unwrap is for [http.ResponseController].
func (s *stream) Unwrap() http.ResponseWriter { return s.ResponseWriter }

// wait begins or ends the time that a write may take.
func (s *stream) wait(begins bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.waiting = begins
	switch {
	case s.timer == nil:
		s.timer = time.AfterFunc(s.stall, s.late)
	case begins:
		s.timer.Reset(s.stall)
	default:
		s.timer.Stop()
	}
}

func (s *stream) late() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.waiting && !s.over {
		http.NewResponseController(s.ResponseWriter).SetWriteDeadline(time.Now())
	}
}

// end lets go of the answer: it must not be touched any more.
func (s *stream) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over = true; s.timer != nil {
		s.timer.Stop()
	}
}
