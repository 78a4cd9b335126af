package signin

import (
	"fmt"
	"sync"
	"time"

	"urbankeep/internal/keep"
)

const (
	// repeatsShown is how many refusals of one kind from one network get a record each in a
	// stretch of repeatsWithin; those after them become one record with their number.
	repeatsShown  = 20
	repeatsWithin = time.Minute
	// maxRepeats bounds the kinds and networks that are counted apart; past it they are counted
	// together.
	maxRepeats = 1000
)

// Repeats bounds what people who have not signed in can write into the trail.
type Repeats struct {
	Note func(keep.AuditRecord) // where records go

	mu   sync.Mutex
	seen map[repeat]*repeated
}

type repeat struct {
	network string // "": many
	action  keep.Action
	reason  keep.Reason
}

type repeated struct {
	count int
	last  keep.AuditRecord
	alike bool // all were for one account
	timer *time.Timer
}

// Refused takes the record of a refusal.
func (p *Repeats) Refused(r keep.AuditRecord) {
	key := repeat{network(r.Address), r.Action, r.Reason}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.seen == nil {
		p.seen = map[repeat]*repeated{}
	}
	if p.seen[key] == nil && len(p.seen) >= maxRepeats {
		key.network = ""
	}
	e := p.seen[key]
	if e == nil {
		e = &repeated{alike: true}
		p.seen[key] = e
		e.timer = time.AfterFunc(repeatsWithin, func() { p.sumUp(key) })
	}
	if e.count++; e.count <= repeatsShown {
		p.Note(r)
		return
	}
	if e.last.Action != "" && e.last.Account != r.Account {
		e.alike = false
	}
	r.At = time.Time{}
	e.last = r
}

// sumUp writes how many more there were of a kind.
func (p *Repeats) sumUp(key repeat) {
	p.mu.Lock()
	defer p.mu.Unlock()
	e := p.seen[key]
	if e == nil {
		return
	}
	delete(p.seen, key)
	e.timer.Stop()
	if e.count <= repeatsShown {
		return
	}
	r, from := e.last, key.network
	if !e.alike {
		r.Account = ""
	}
	if from == "" {
		r.Address, from = "", "many addresses"
	}
	r.Session, r.Duration = "", 0
	r.Detail = fmt.Sprintf("%d more like the ones before, from %s within %s", e.count-repeatsShown, from, repeatsWithin)
	p.Note(r)
}

// Close writes what is still to be summed up.
func (p *Repeats) Close() {
	p.mu.Lock()
	keys := make([]repeat, 0, len(p.seen))
	for key := range p.seen {
		keys = append(keys, key)
	}
	p.mu.Unlock()
	for _, key := range keys {
		p.sumUp(key)
	}
}
