package notice

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"reflect"
	"slices"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

const (
	// savePace is how often it is written down how far the receivers have come: what was told since is told again after the
	// end of the power.
	savePace = time.Second
	// readers bounds the lines that read in the trail at the same time, pageLength the records that each reads at once.
	readers, pageLength = 4, 200
	// maxQueued and maxQueuedBytes bound what waits in memory for one receiver: the rest waits in the trail.
	maxQueued, maxQueuedBytes = 1000, 1 << 20
	// maxUrgent bounds what is told to one receiver although it is not in the trail.
	maxUrgent = 20
)

// Options are what a teller needs to know of the service around it.
type Options struct {
	Source string                                         // of the events (CloudEvents 1.0, "source"); the same for ever
	Name   func() string                                  // of the service, for people
	Mail   func(context.Context) (keep.MailServer, error) // where mail is handed in
	MailOf func(ctx context.Context, account string) string
	Own    func(netip.AddrPort) bool  // whether that is a listener of this service
	Busy   func() bool                // whether files are moved just now; nil: they never are
	Away   func(receiver, why string) // hears that a receiver can't be reached, or with "" that it can again
	Pause  time.Duration              // between the first two tries; 0: a second
	Log    *slog.Logger
}

// Teller tells receivers what happens.
type Teller struct {
	Options
	db     *records.DB
	fills  chan struct{}
	caller *caller
	stop   context.CancelFunc
	over   sync.WaitGroup

	arranging sync.Mutex
	mu        sync.Mutex
	lines     map[string]*line // by receiver
	last      int64            // record that came
	lately    int              // records that came since counted
	counted   time.Time
}

// Open begins to tell, from where each receiver was left off.
func Open(ctx context.Context, db *records.DB, o Options) (*Teller, error) {
	if o.Pause == 0 {
		o.Pause = leastPause
	}
	t := &Teller{Options: o, db: db, fills: make(chan struct{}, readers), lines: map[string]*line{}}
	t.caller = &caller{own: o.Own}
	last, err := db.LastAudit(ctx)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	t.last = last.Seq
	running, stop := context.WithCancel(context.Background())
	t.stop = stop
	if err := t.Arrange(ctx); err != nil {
		stop()
		return nil, err
	}
	t.over.Go(func() { t.save(running) })
	return t, nil
}

// Arrange puts in force what the records say of receivers and notices.
func (t *Teller) Arrange(ctx context.Context) error {
	t.arranging.Lock()
	defer t.arranging.Unlock()
	receivers, err := t.db.Receivers(ctx)
	if err != nil {
		return err
	}
	notices, err := t.db.Notices(ctx)
	if err != nil {
		return err
	}
	wanted := map[string]*line{}
	for i := range receivers {
		r := receivers[i]
		if r.Off {
			continue
		}
		l := &line{t: t, r: r, wake: make(chan struct{}, 1), hurry: make(chan struct{}, 1)}
		for n := range notices {
			if slices.Contains(notices[n].Receivers, r.Name) && notices[n].Account == r.Account {
				m, err := notices[n].Matcher()
				if err != nil {
					return err
				}
				l.matchers = append(l.matchers, m)
			}
		}
		wanted[r.Name] = l
	}
	for name, running := range t.all() {
		l := wanted[name]
		if l != nil && reflect.DeepEqual(l.r, running.r) && sameNotices(l.matchers, running.matchers) {
			delete(wanted, name)
			continue
		}
		t.mu.Lock()
		delete(t.lines, name)
		t.mu.Unlock()
		running.end()
		if running.state.Tries >= awayAfter && t.Away != nil { // it is another one now, or none
			t.Away(name, "")
		}
		if err := running.save(context.WithoutCancel(ctx)); err != nil { // then it is told again what it was told last
			t.Log.Error("how far a receiver of notices has come was not saved", "receiver", name, "cause", err)
		}
	}
	t.caller.forget(receivers)
	for name, l := range wanted {
		if l.seen, err = t.db.ReceiverCursor(ctx, name); err != nil {
			return err
		}
		l.saved = l.seen
		t.mu.Lock()
		t.lines[name] = l
		t.mu.Unlock()
		l.begin()
	}
	return nil
}

func sameNotices(a, b []*keep.Matcher) bool {
	return slices.EqualFunc(a, b, func(a, b *keep.Matcher) bool { return reflect.DeepEqual(a.Notice, b.Notice) })
}

func (t *Teller) all() map[string]*line {
	t.mu.Lock()
	defer t.mu.Unlock()
	found := map[string]*line{}
	for name, l := range t.lines {
		found[name] = l
	}
	return found
}

// Close ends the telling and leaves the rest for the next start.
func (t *Teller) Close() error {
	t.stop()
	t.over.Wait()
	t.arranging.Lock()
	defer t.arranging.Unlock()
	var errs []error
	lines := t.all()
	for _, l := range lines {
		l.cancel()
	}
	for _, l := range lines {
		l.end()
		errs = append(errs, l.save(context.Background()))
	}
	t.caller.forget(nil)
	return errors.Join(errs...)
}

// Recorded tells that there are new records. It does not wait.
func (t *Teller) Recorded(some []keep.AuditRecord) {
	if len(some) == 0 {
		return
	}
	t.mu.Lock()
	t.last = some[len(some)-1].Seq
	if now := time.Now(); now.Sub(t.counted) > time.Second {
		t.counted, t.lately = now, 0
	}
	t.lately += len(some)
	lines := make([]*line, 0, len(t.lines))
	for _, l := range t.lines {
		lines = append(lines, l)
	}
	t.mu.Unlock()
	for _, l := range lines {
		l.take(some)
	}
}

// Urgent tells of something that can't be recorded now.
func (t *Teller) Urgent(r keep.AuditRecord) {
	for _, l := range t.all() {
		l.takeUrgent(r)
	}
}

// much is how many records a second are a lot to do.
const much = 100

// busy reports whether files are moved just now, or much happens.
func (t *Teller) busy() bool {
	t.mu.Lock()
	lot := t.lately > much && time.Since(t.counted) < 2*time.Second
	t.mu.Unlock()
	return lot || t.Busy != nil && t.Busy()
}

// newest is the last record that there is.
func (t *Teller) newest() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.last
}

// save writes down now and then how far all have come.
func (t *Teller) save(ctx context.Context) {
	tick := time.NewTicker(savePace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		for _, l := range t.all() {
			if err := l.save(ctx); err != nil && ctx.Err() == nil {
				t.Log.Error("how far a receiver of notices has come was not saved", "receiver", l.r.Name, "cause", err)
			}
		}
	}
}

// State is how the telling of a receiver does.
type State struct {
	Waiting int64     // records that were not looked at for it yet
	Queued  int       // things that it is to be told
	Trouble string    // why it does not go on; "": it does
	Since   time.Time // since when
	Tries   int
	Next    time.Time // when it is tried again; zero: now, or there is nothing
}

// State says how the telling of a receiver does; ok is false when nothing is told to it.
func (t *Teller) State(receiver string) (now State, ok bool) {
	t.mu.Lock()
	l, last := t.lines[receiver], t.last
	t.mu.Unlock()
	if l == nil {
		return State{}, false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	now = l.state
	now.Waiting, now.Queued = max(0, last-l.seen), len(l.queue)+len(l.urgent)
	return now, true
}

// Floor is the last record of the trail that no receiver needs any more.
func (t *Teller) Floor() int64 {
	floor := t.newest()
	for _, l := range t.all() {
		floor = min(floor, l.cursor())
	}
	return floor
}

// Again has a receiver tried at once, with what is to be tried again first.
func (t *Teller) Again(receiver string) {
	t.mu.Lock()
	l := t.lines[receiver]
	t.mu.Unlock()
	if l == nil {
		return
	}
	l.mu.Lock()
	l.asideLeft = true
	l.mu.Unlock()
	select {
	case l.hurry <- struct{}{}:
	default:
	}
	l.nudge()
}

// Answer is what a receiver said.
type Answer struct {
	Said string
	Err  error
	Took time.Duration
}

// Try tells one receiver something that did not happen, past its line.
func (t *Teller) Try(ctx context.Context, r keep.Receiver, sample keep.AuditRecord, notices []string) Answer {
	event, over := keep.EventOf(&sample)
	l := &line{t: t, r: r}
	began := time.Now()
	said, err := l.tell(ctx, []item{{r: sample, event: event, over: over, notices: notices, sample: true}})
	return Answer{said, err, time.Since(began)}
}

// Sight asks the records.
type Sight struct{ DB *records.DB }

// GroupsOf implements [keep.Sight].
func (s Sight) GroupsOf(account string) []string {
	if account == "" {
		return nil
	}
	holder, err := s.DB.Holder(context.Background(), account)
	if err != nil {
		return nil
	}
	return holder.Account.Groups
}

// SeenBy implements [keep.Sight].
func (s Sight) SeenBy(account string, r *keep.AuditRecord) string {
	if r.Account == "" || r.Path == "" {
		return ""
	}
	holder, err := s.DB.Holder(context.Background(), account)
	if err != nil {
		return ""
	}
	other, err := s.DB.Holder(context.Background(), r.Account)
	if err != nil {
		return ""
	}
	return keep.SeenBy(holder.Account, other.Account, r.Path, r.At)
}
