package traffic

import "time"

// Beat is what was moved and done in one second.
type Beat struct {
	At         time.Time // its end
	Up, Down   int64     // bytes
	Operations int64
}

const (
	// keptBeats is how many seconds are remembered.
	keptBeats = 600
	// memory is how much of a transfer's rate a second leaves as it was.
	memory = 0.6
)

// measure counts each second, and how fast each transfer is, until the registry is
// closed.
func (r *Registry) measure() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var last Beat // of totals
	for before := time.Now(); ; {
		select {
		case <-r.stop:
			return
		case now := <-tick.C:
			total := Beat{now.UTC(), r.up.Load(), r.down.Load(), r.done.Load()}
			r.beat(Beat{total.At, total.Up - last.Up, total.Down - last.Down, total.Operations - last.Operations}, now.Sub(before).Seconds())
			last, before = total, now
		}
	}
}

func (r *Registry) beat(b Beat, seconds float64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.beats = append(r.beats, b); len(r.beats) > keptBeats {
		r.beats = r.beats[1:]
	}
	for _, t := range r.running {
		moved := t.moved.Load()
		now := float64(moved-t.measured) / max(seconds, 0.001)
		if t.measured == 0 {
			t.rate = now
		}
		t.rate, t.measured = memory*t.rate+(1-memory)*now, moved
	}
}

// Beats gives the last seconds, oldest first.
func (r *Registry) Beats() []Beat {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]Beat{}, r.beats...)
}
