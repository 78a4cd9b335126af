package quota

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"urbankeep/internal/keep"
)

// change is one change of what is in stores, while it goes on.
type change struct {
	l     *Ledger
	spots []Spot
	alone bool          // nobody else changes anything in its stores meanwhile
	over  chan struct{} // closed when it is; nil: nobody waits for it
}

// enter begins a change at paths: it waits until the places that hold them are counted, and notes that they
// change. The caller must leave, unless it got an error.
func (l *Ledger) enter(spots ...Spot) (*change, error) {
	return l.begin(&change{l: l, spots: spots})
}

// enterAlone is enter for a change that needs its stores to stand still.
func (l *Ledger) enterAlone(spots ...Spot) (*change, error) {
	return l.begin(&change{l: l, spots: spots, alone: true})
}

func (c *change) leave() {
	c.l.changes.Add(1)
	c.l.mu.Lock()
	defer c.l.mu.Unlock()
	delete(c.l.running, c)
	c.end()
}

// end lets go whoever waits for a change. The caller holds mu.
func (c *change) end() {
	for _, spot := range c.spots {
		if c.l.alone[spot.Store] == c {
			delete(c.l.alone, spot.Store)
		}
	}
	if c.over != nil {
		close(c.over)
		c.over = nil
	}
}

// ended is closed when the change is over. The caller holds mu.
func (c *change) ended() chan struct{} {
	if c.over == nil {
		c.over = make(chan struct{})
	}
	return c.over
}

var errStopping = keep.Refuse(keep.Stopping, "the service is stopping")

func (l *Ledger) begin(c *change) (*change, error) {
	var deadline <-chan time.Time
	for {
		waits, err := l.try(c)
		if err == nil && waits == nil {
			return c, nil
		}
		if err == nil {
			if deadline == nil {
				deadline = time.After(maxWait)
			}
			select {
			case <-waits:
				continue
			case <-deadline:
				err = keep.Refuse(keep.QuotaFull, "what the folder holds is being counted: try again in a minute")
			case <-l.quit:
				err = errStopping
			}
		}
		l.mu.Lock()
		c.end()
		l.mu.Unlock()
		return nil, err
	}
}

// try begins a change, or gives what is to be waited for.
func (l *Ledger) try(c *change) (waits chan struct{}, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	var settled []*place
	now := time.Now()
	for _, spot := range c.spots {
		if why := l.still[spot.Store]; why != nil {
			return nil, why
		}
		if other := l.alone[spot.Store]; other != nil && other != c {
			return other.ended(), nil
		}
		for _, p := range l.over(spot) {
			select {
			case <-p.known:
			default:
				return p.known, nil
			}
			switch {
			case p.unknown:
				p.unknown, p.known = false, make(chan struct{})
				l.ask(p)
				return p.known, nil
			case p.noting != nil:
				return p.noting, nil
			case p.settled && !slices.Contains(settled, p):
				settled = append(settled, p)
			}
			p.changed = now
		}
	}
	if c.alone {
		for _, spot := range c.spots {
			l.alone[spot.Store] = c
		}
		for other := range l.running {
			if slices.ContainsFunc(other.spots, func(spot Spot) bool { return l.alone[spot.Store] == c }) {
				return other.ended(), nil
			}
		}
	}
	if len(settled) > 0 {
		err = l.note(settled, func() error { return l.unsettle(settled) }, func(p *place) { p.settled = false })
		return done, err // and once more: it was let go of the lock
	}
	l.running[c] = struct{}{}
	l.touched.add(c.spots...)
	return nil, nil
}

// done is over already.
var done = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// note has the records say something of places, and then what follows from it. Nobody begins a change in them meanwhile.
// The caller holds mu, which is let go while the records are written.
func (l *Ledger) note(places []*place, write func() error, then func(*place)) error {
	noting := make(chan struct{})
	for _, p := range places {
		p.noting = noting
	}
	l.mu.Unlock()
	err := write()
	l.mu.Lock()
	for _, p := range places {
		if p.noting = nil; err == nil {
			then(p)
		}
	}
	close(noting)
	return err
}

// unsettle has the records say that what places hold is no longer as written down.
func (l *Ledger) unsettle(places []*place) (err error) {
	for _, p := range places {
		if wrong := l.db.UnsettlePlace(context.Background(), p.spot.Store, p.spot.Path); wrong != nil {
			err = errors.Join(err, fmt.Errorf("note that %s changes: %w", p.spot.Path, wrong))
		}
	}
	return err
}

// drain waits for the changes that have begun at a folder, above it or in it.
func (l *Ledger) drain(ctx context.Context, folder Spot) error {
	l.mu.Lock()
	var over []chan struct{}
	for c := range l.running {
		if slices.ContainsFunc(c.spots, func(spot Spot) bool {
			return spot.Store == folder.Store && (within(folder.Path, spot.Path) || within(spot.Path, folder.Path))
		}) {
			over = append(over, c.ended())
		}
	}
	l.mu.Unlock()
	for _, one := range over {
		select {
		case <-one:
		case <-ctx.Done():
			return ctx.Err()
		case <-l.quit:
			return errStopping
		}
	}
	return nil
}
