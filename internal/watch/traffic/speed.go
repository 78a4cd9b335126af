package traffic

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/keep"
)

// Speeds are the most that may be moved, bytes per second; 0 is any.
type Speeds struct {
	Up, Down               keep.Bytes // by all sessions of the account together
	SessionUp, SessionDown keep.Bytes // by each
}

// pace is a speed limit. Those who share it have equal shares; what one doesn't use is for whoever waits.
type pace struct {
	speed float64 // bytes per second
	turn  int     // bytes

	mu     sync.Mutex
	shares map[*Session]*share
	spare  float64 // bytes that are in nobody's share
	as     time.Time
	line   []*waiter
	next   *time.Timer // goes on with the line; nil before somebody has stood in it
}

// share is what a session may move now.
type share struct {
	bytes float64
	asked time.Time
	waits int // how often it stands in line
}

type waiter struct {
	share *share
	bytes int
	pass  chan struct{} // closed when it may go
}

// saved is how long a share is kept for who doesn't use it: a session that has to wait for a
// processor loses no speed by that.
const saved = 250 * time.Millisecond

// turns is how many turns a second has at least.
const turns = 20

// mostTurn bounds a turn, so that those who wait have theirs soon, bytes.
const mostTurn = 16 << 10

// leastTurn keeps very low limits from making packets of a few bytes, bytes.
const leastTurn = 512

func newPace(speed keep.Bytes) *pace {
	if speed == 0 {
		return nil
	}
	p := &pace{speed: float64(speed), turn: min(max(int(speed/turns), leastTurn), mostTurn), shares: map[*Session]*share{}, as: time.Now()}
	p.spare = p.mostSpare()
	return p
}

func (p *pace) mostSpare() float64 { return max(p.speed/turns, leastTurn) }

// wait waits until a session may move so many bytes, a turn at most, or is over.
func (p *pace) wait(s *Session, bytes int) {
	p.mu.Lock()
	mine := p.shares[s]
	if mine == nil {
		mine = &share{}
		p.shares[s] = mine
	}
	w := &waiter{mine, bytes, make(chan struct{})}
	p.settle(time.Now()) // before it has a share again, if it was away
	mine.asked = p.as
	mine.waits++
	p.line = append(p.line, w)
	p.goOn()
	p.mu.Unlock()
	select {
	case <-w.pass:
	case <-s.over:
		p.mu.Lock()
		before := len(p.line)
		p.line = slices.DeleteFunc(p.line, func(one *waiter) bool { return one == w })
		mine.waits -= before - len(p.line)
		p.mu.Unlock()
	}
}

// goOn lets go whom the limit lets go now. The caller holds mu.
func (p *pace) goOn() {
	rate := p.settle(time.Now())
	soonest := time.Duration(-1)
	p.line = slices.DeleteFunc(p.line, func(w *waiter) bool {
		lacking := float64(w.bytes) - w.share.bytes - p.spare
		if lacking > 0 {
			if next := time.Duration(lacking/rate*float64(time.Second)) + time.Microsecond; soonest < 0 || next < soonest {
				soonest = next
			}
			return false
		}
		own := min(float64(w.bytes), w.share.bytes)
		w.share.bytes -= own
		p.spare -= float64(w.bytes) - own
		w.share.waits--
		close(w.pass)
		return true
	})
	switch {
	case soonest < 0:
	case p.next == nil:
		p.next = time.AfterFunc(soonest, func() {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.goOn()
		})
	default:
		p.next.Reset(soonest)
	}
}

// settle deals out what has come since, and gives how fast a share grows at most, bytes per second. The caller
// holds mu.
func (p *pace) settle(now time.Time) (rate float64) {
	gain := p.speed * now.Sub(p.as).Seconds()
	p.as = now
	active := 0
	for _, one := range p.shares {
		if one.waits > 0 || now.Sub(one.asked) < saved {
			active++
		}
	}
	if active == 0 {
		p.spare = min(p.spare+gain, p.mostSpare())
		return p.speed
	}
	rate = p.speed / float64(active)
	most := max(rate*saved.Seconds(), float64(p.turn))
	for _, one := range p.shares {
		if one.waits > 0 || now.Sub(one.asked) < saved {
			one.bytes += gain / float64(active)
		} else {
			p.spare += one.bytes
			one.bytes = 0
		}
		if one.bytes >= most {
			p.spare += one.bytes - most
			one.bytes = most
			rate = p.speed // what overflows may be anybody's
		}
	}
	p.spare = min(p.spare, p.mostSpare())
	return rate
}

// forget drops a session that is over.
func (p *pace) forget(s *Session) {
	if p != nil {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.shares, s)
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
