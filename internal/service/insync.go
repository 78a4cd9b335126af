package service

import (
	"context"
	"sync"
	"time"

	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
)

// syncLook is how often it is looked which sources are due to be read whole.
const syncLook = 10 * time.Second

// insync keeps the accounts of sources in step with them.
type insync struct {
	mu      sync.Mutex
	last    map[string]time.Time // when a source was read, by name
	stopped map[string]string    // those of which it was not done, and why
}

// run does it until the service stops.
func (i *insync) run(ctx context.Context, s *Service) {
	tick := time.NewTicker(syncLook)
	defer tick.Stop()
	for {
		sources, err := s.DB.Sources(ctx)
		if err != nil && ctx.Err() == nil {
			s.log.Error("which sources are to be read is not known", "cause", err)
		}
		due := map[string]bool{}
		for _, one := range sources {
			due[one.Name] = one.Every > 0 && !one.Off
			if due[one.Name] && i.dueSince(one.Name, one.Every.Duration()) {
				i.read(ctx, s, one.Name)
			}
		}
		i.forget(due)
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// dueSince reports whether a source is to be read again, also when the clock went back.
func (i *insync) dueSince(name string, every time.Duration) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	since := time.Since(i.last[name])
	return since >= every || since < 0
}

func (i *insync) read(ctx context.Context, s *Service, name string) {
	answer, err := s.Office.SyncSource(ctx, office.Actor{Role: keep.Owner, Protocol: keep.Local}, name, true, 0)
	if ctx.Err() != nil {
		return
	}
	why := answer.Stopped
	if err != nil {
		why = err.Error()
		s.log.Warn("the accounts of a source are not kept in step", "source", name, "cause", err)
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.last == nil {
		i.last, i.stopped = map[string]time.Time{}, map[string]string{}
	}
	i.last[name] = time.Now()
	if i.stopped[name] = why; why == "" {
		delete(i.stopped, name)
	}
}

// forget drops what is known of sources that are not kept in step.
func (i *insync) forget(but map[string]bool) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for name := range i.last {
		if !but[name] {
			delete(i.last, name)
			delete(i.stopped, name)
		}
	}
}

// troubles are the sources of which it was not done, and those that can't be asked.
func (i *insync) troubles(s *Service) map[trouble]facts {
	i.mu.Lock()
	defer i.mu.Unlock()
	found := map[trouble]facts{}
	for name, why := range i.stopped {
		found[trouble{keep.SyncStopped, name}] = facts{says: why}
	}
	for name, why := range s.book.Away() {
		found[trouble{keep.SourceAway, name}] = facts{says: why.Error()}
	}
	return found
}
