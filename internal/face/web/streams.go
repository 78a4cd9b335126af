package web

import (
	"net/http"
	"sync"

	"urbankeep/internal/protocol/exchange"
)

// How many live streams may be open at once, in all and of one operator.
const (
	maxStreams            = 100
	maxStreamsPerOperator = 12
)

// streams counts the live streams.
type streams struct {
	mu  sync.Mutex
	of  map[string]int // by operator
	all int
}

var errStreams = &exchange.Problem{Status: http.StatusTooManyRequests, Say: "too many live streams are open: close a page of the console"}

// enter lets a stream begin; leave is called when it has ended.
func (s *streams) enter(operator string) (leave func(), err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil {
		s.of = map[string]int{}
	}
	if s.all >= maxStreams || s.of[operator] >= maxStreamsPerOperator {
		return nil, errStreams
	}
	s.all++
	s.of[operator]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.all--
		if s.of[operator]--; s.of[operator] == 0 {
			delete(s.of, operator)
		}
	}, nil
}
