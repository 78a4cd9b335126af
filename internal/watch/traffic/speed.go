package traffic

import (
	"cmp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"urbankeep/internal/keep"
)

// Speeds are the most that may be moved, bytes per second; 0 is any.
type Speeds struct {
	Up, Down               keep.Bytes // by all sessions of the account together
	SessionUp, SessionDown keep.Bytes // by each
}

// pace is a speed limit. Those who share it take turns of the same few bytes; of
// those who wait, the one that has had the least goes first.
type pace struct {
	limiter *rate.Limiter
	turn    int // bytes

	mu    sync.Mutex
	line  []*waiter
	had   map[*Session]int64 // bytes
	clock int64              // what the last that went has had
	armed bool               // a timer will go on with the line
}

type waiter struct {
	s     *Session
	bytes int
	pass  chan struct{} // closed when it may go
}

// saved is how much of what nobody took may be taken later, seconds of the speed.
// A service that has to wait for a processor loses no speed by that.
const saved = 0.25

// turns is how many turns a second has at least.
const turns = 20

// mostTurn keeps one session of a fast account from long turns, bytes: who asks for
// large ones must not get more than who asks for small ones.
const mostTurn = 16 << 10

// leastTurn keeps very low limits from making packets of a few bytes, bytes.
const leastTurn = 512

func newPace(speed keep.Bytes) *pace {
	if speed == 0 {
		return nil
	}
	turn := min(max(int(speed/turns), leastTurn), mostTurn)
	return &pace{limiter: rate.NewLimiter(rate.Limit(speed), max(int(saved*float64(speed)), turn)), turn: turn, had: map[*Session]int64{}}
}

// wait waits until a session may move so many bytes, a turn at most, or is over.
func (p *pace) wait(s *Session, bytes int) {
	w := &waiter{s, bytes, make(chan struct{})}
	p.mu.Lock()
	// Who comes back from a pause does not get what it has missed, but for a moment's.
	p.had[s] = max(p.had[s], p.clock-int64(max(p.limiter.Burst(), 2*p.turn)))
	p.line = append(p.line, w)
	p.goOn()
	p.mu.Unlock()
	select {
	case <-w.pass:
	case <-s.over:
		p.mu.Lock()
		p.line = slices.DeleteFunc(p.line, func(one *waiter) bool { return one == w })
		p.mu.Unlock()
	}
}

// goOn lets go whom the limit lets go now. The caller holds mu.
func (p *pace) goOn() {
	for len(p.line) > 0 {
		next := slices.MinFunc(p.line, func(a, b *waiter) int { return cmp.Compare(p.had[a.s], p.had[b.s]) })
		now := time.Now()
		if !p.limiter.AllowN(now, next.bytes) {
			if !p.armed {
				p.armed = true
				lacking := float64(next.bytes) - p.limiter.TokensAt(now)
				time.AfterFunc(time.Duration(lacking/float64(p.limiter.Limit())*float64(time.Second)), func() {
					p.mu.Lock()
					defer p.mu.Unlock()
					p.armed = false
					p.goOn()
				})
			}
			return
		}
		p.had[next.s] += int64(next.bytes)
		p.clock = p.had[next.s]
		p.line = slices.DeleteFunc(p.line, func(one *waiter) bool { return one == next })
		close(next.pass)
	}
}

// forget drops a session that is over.
func (p *pace) forget(s *Session) {
	if p != nil {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.had, s)
	}
}

// paces are the limits of one direction of a session: its account's and its own.
type paces struct{ account, own *pace }

// shared are the limits of an account with sessions.
type shared struct {
	up, down *pace
	speeds   Speeds
	sessions int
}

// Limit puts speed limits in force for a session and, where they are the
// account's, for all its sessions.
func (s *Session) Limit(speeds Speeds) {
	r := s.r
	r.mu.Lock()
	defer r.mu.Unlock()
	a := r.shared[s.info.Account]
	if a == nil {
		a = &shared{}
		r.shared[s.info.Account] = a
	}
	if !s.limited {
		s.limited = true
		a.sessions++
	}
	if a.speeds.Up != speeds.Up {
		a.up = newPace(speeds.Up)
	}
	if a.speeds.Down != speeds.Down {
		a.down = newPace(speeds.Down)
	}
	a.speeds = speeds
	put := func(to *atomic.Pointer[paces], account *pace, speed keep.Bytes) {
		own := newPace(speed)
		if account == nil && own == nil {
			to.Store(nil)
			return
		}
		to.Store(&paces{account, own})
	}
	put(&s.paceUp, a.up, speeds.SessionUp)
	put(&s.paceDown, a.down, speeds.SessionDown)
}

// unlimit forgets the limits of an account with its last session. The caller holds
// r.mu.
func (s *Session) unlimit() {
	if a := s.r.shared[s.info.Account]; s.limited && a != nil {
		a.up.forget(s)
		a.down.forget(s)
		if a.sessions--; a.sessions == 0 {
			delete(s.r.shared, s.info.Account)
		}
	}
}

func (t *transfer) paces() *paces {
	if t.info.Action == keep.Uploading {
		return t.s.paceUp.Load()
	}
	return t.s.paceDown.Load()
}

// Chunk is how many bytes should be moved at once, 0 for any number.
func (t *transfer) Chunk() int {
	p := t.paces()
	switch {
	case p == nil:
		return 0
	case p.account == nil:
		return p.own.turn
	case p.own == nil:
		return p.account.turn
	}
	return min(p.account.turn, p.own.turn)
}

// Pace waits until so many bytes may be moved, or the session ends.
func (t *transfer) Pace(bytes int) {
	for bytes > 0 {
		p := t.paces()
		if p == nil {
			return
		}
		part := min(bytes, t.Chunk())
		for _, one := range []*pace{p.own, p.account} {
			if one != nil {
				one.wait(t.s, part)
			}
		}
		bytes -= part
		select {
		case <-t.s.over:
			return
		default:
		}
	}
}
