package notice

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

const (
	// leastPause and mostPause lie between two tries.
	leastPause, mostPause = time.Second, 5 * time.Minute
	// fewTries are made before anything is given up, however old it is.
	fewTries = 3
	// refusals are made before something is given up that the receiver refuses while it takes other things.
	refusals = 5
	// awayAfter is how many tries fail until the receiver counts as away.
	awayAfter = 3
	// maxTogether bounds what one mail tells of.
	maxTogether = 200
	// fewTold is more than is told in a second where little happens: what is told of more is written down every floodPace.
	fewTold, floodPace = 200, 5 * time.Second
	// While much happens, telling leaves the processors to it: it rests after each call, for at most rest, as long as what it
	// tells is younger than fresh; else for a tenth of that, up to stale.
	rest, fresh, stale = 20 * time.Millisecond, 10 * time.Second, time.Minute
	// manyMails in a minute is as many as one receiver gets: then one mail tells of all that has come together.
	manyMails = 10
)

// item is something that a receiver is to be told.
type item struct {
	r       keep.AuditRecord
	event   keep.Event
	over    bool
	notices []string
	id      int64 // of what was set aside before; 0: it is new
	tries   int   // before it was set aside
	urgent  bool  // it is in no record
	sample  bool  // it did not happen
}

func (i *item) size() int {
	return 200 + len(i.r.Path) + len(i.r.Target) + len(i.r.Detail) + len(i.r.Account) + len(i.r.Session)
}

// line is what one receiver is told, in order.
type line struct {
	t        *Teller
	r        keep.Receiver
	matchers []*keep.Matcher
	wake     chan struct{} // there is something new
	hurry    chan struct{} // what waits for its next try needs to wait no more
	cancel   context.CancelFunc
	over     sync.WaitGroup
	mails    []time.Time // of the last minute; of the line's goroutine, as post is
	post     post

	mu        sync.Mutex
	seen      int64  // all records up to this were looked at
	queue     []item // what is to be told of them, oldest first
	bytes     int    // that it takes
	urgent    []item
	asideLeft bool           // there may be something that is to be tried again
	told      []records.Told // what is to be written down
	saved     int64          // cursor that is written down
	savedAt   time.Time      // when
	state     State
}

func (l *line) begin() {
	ctx, cancel := context.WithCancel(context.Background())
	l.cancel, l.asideLeft = cancel, true
	l.state.Since = time.Now()
	l.over.Go(func() { l.run(ctx) })
}

func (l *line) end() {
	l.cancel()
	l.over.Wait()
}

func (l *line) nudge() {
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// take looks at new records, if it has seen all before them and has room; else they are read from the trail later.
func (l *line) take(some []keep.AuditRecord) {
	l.mu.Lock()
	if l.seen == some[0].Seq-1 && len(l.queue) < maxQueued && l.bytes < maxQueuedBytes {
		for i := range some {
			l.look(&some[i])
		}
	}
	idle := l.seen == some[len(some)-1].Seq && len(l.queue) == 0
	l.mu.Unlock()
	if !idle {
		l.nudge()
	}
}

// look puts a record into the queue if it is to be told. The caller holds mu.
func (l *line) look(r *keep.AuditRecord) {
	if r.Seq <= l.seen {
		return
	}
	l.seen = r.Seq
	if it, is := l.match(r); is {
		l.queue = append(l.queue, it)
		l.bytes += it.size()
	}
}

// match finds the notices that tell this receiver of a record.
func (l *line) match(r *keep.AuditRecord) (it item, is bool) {
	for _, m := range l.matchers {
		if !m.Heeds(r.Action) {
			continue
		}
		if it.event == "" {
			if it.event, it.over = keep.EventOf(r); it.event == "" {
				return it, false
			}
		}
		if it.event == keep.EventReceiverAway && r.Target == l.r.Name { // which it could not hear, and that it is back it knows
			return it, false
		}
		if m.Matches(r, it.event, it.over, Sight{l.t.db}) {
			it.notices = append(it.notices, m.Name)
		}
	}
	if it.r = *r; l.r.Account != "" && len(it.notices) > 0 && r.Account != l.r.Account {
		it.r = l.veil(r)
	}
	return it, len(it.notices) > 0
}

// veil is what a holder may know of what somebody else did: what they see of it, and not who that was.
func (l *line) veil(r *keep.AuditRecord) keep.AuditRecord {
	shown := keep.AuditRecord{Seq: r.Seq, At: r.At, Action: r.Action, Outcome: r.Outcome, Offset: r.Offset, Bytes: r.Bytes, Duration: r.Duration, Path: Sight{l.t.db}.SeenBy(l.r.Account, r)}
	shown.Replaced = r.Replaced
	return shown
}

func (l *line) takeUrgent(r keep.AuditRecord) {
	it, is := l.match(&r)
	if !is {
		return
	}
	it.urgent = true
	l.mu.Lock()
	if len(l.urgent) < maxUrgent {
		l.urgent = append(l.urgent, it)
	}
	l.mu.Unlock()
	select {
	case l.hurry <- struct{}{}:
	default:
	}
	l.nudge()
}

// cursor is the last record that the receiver needs no more.
func (l *line) cursor() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.at()
}

// at is cursor for who holds mu.
func (l *line) at() int64 {
	if len(l.queue) > 0 {
		return l.queue[0].r.Seq - 1
	}
	return l.seen
}

// save writes down how far it has come.
func (l *line) save(ctx context.Context) error {
	l.mu.Lock()
	told, at := l.told, l.at()
	flood := len(told) > fewTold && time.Since(l.savedAt) < floodPace && ctx.Done() != nil
	if flood || len(told) == 0 && (at == l.saved || at-l.saved < 1000 && ctx.Done() != nil) { // a cursor alone can wait
		l.mu.Unlock()
		return nil
	}
	l.told = nil
	l.mu.Unlock()
	err := l.t.db.SaveTold(context.WithoutCancel(ctx), l.r.Name, at, told)
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil {
		l.told = append(told, l.told...)
		return err
	}
	l.saved, l.savedAt = at, time.Now()
	return nil
}

func (l *line) run(ctx context.Context) {
	for ctx.Err() == nil {
		if aside := l.again(ctx); len(aside) > 0 {
			for _, it := range aside {
				if !l.deliver(ctx, []item{it}) {
					return
				}
			}
			continue
		}
		some := l.next()
		if len(some) == 0 {
			more, err := l.fill(ctx)
			if err != nil {
				l.trouble(ctx, err, 0, time.Now().Add(leastPause))
				l.wait(ctx, leastPause)
			} else if !more {
				l.wait(ctx, -1)
			}
			continue
		}
		if l.r.Kind == keep.MailMessage && !some[0].urgent {
			if some = l.gather(ctx, some); some == nil {
				return
			}
		}
		began, happened := time.Now(), some[0].r.At // which deliver takes out of the queue
		if !l.deliver(ctx, some) {
			return
		}
		if l.t.busy() {
			l.breathe(time.Since(began), time.Since(happened))
		}
	}
}

// breathe rests after a call that took so long, about something so old.
func (l *line) breathe(took, old time.Duration) {
	switch {
	case old < fresh:
		time.Sleep(min(100*took, rest))
	case old < stale:
		time.Sleep(min(10*took, rest/20))
	}
}

// wait waits for something new, a while at the most; for ever when that is negative.
func (l *line) wait(ctx context.Context, a time.Duration) {
	var timer <-chan time.Time
	if a >= 0 {
		timer = time.After(a)
	}
	select {
	case <-l.wake:
	case <-timer:
	case <-ctx.Done():
	}
}

// next gives what is to be told next, and leaves it in the queue; what is urgent comes first.
func (l *line) next() []item {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case len(l.urgent) > 0:
		return l.urgent[:1:1]
	case len(l.queue) > 0:
		return l.queue[:1:1]
	}
	return nil
}

// fill reads on in the trail; more is false when it has seen all.
func (l *line) fill(ctx context.Context) (more bool, err error) {
	l.mu.Lock()
	seen := l.seen
	l.mu.Unlock()
	if seen >= l.t.newest() {
		return false, nil
	}
	select {
	case l.t.fills <- struct{}{}:
		defer func() { <-l.t.fills }()
	case <-ctx.Done():
		return false, ctx.Err()
	}
	page, err := l.t.db.AuditAfter(ctx, seen, pageLength)
	if err != nil {
		return false, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range page {
		l.look(&page[i].AuditRecord)
	}
	return len(page) > 0, nil
}

// again reads what was set aside and is to be tried again.
func (l *line) again(ctx context.Context) []item {
	l.mu.Lock()
	left := l.asideLeft
	l.mu.Unlock()
	if !left {
		return nil
	}
	found, err := l.t.db.ToldOf(ctx, records.ToldQuery{Receiver: l.r.Name, State: records.ToldAgain, Limit: pageLength, Oldest: true})
	if err != nil {
		return nil
	}
	l.mu.Lock()
	l.asideLeft = len(found) == pageLength
	l.mu.Unlock()
	var items []item
	for _, told := range found {
		if told.Record != nil {
			event, over := keep.EventOf(told.Record)
			items = append(items, item{r: *told.Record, event: event, over: over, notices: told.Notices, id: told.ID, tries: told.Tries})
		}
	}
	return items
}

// gather waits until a mail is due, and gives all that it tells of; nil when the line ends before.
func (l *line) gather(ctx context.Context, first []item) []item {
	due := time.Now()
	if l.r.Digest > 0 {
		due = first[0].r.At.Add(l.r.Digest.Duration())
		due = minTime(due, time.Now().Add(l.r.Digest.Duration())) // whatever the clock says
	}
	for len(l.mails) > 0 && time.Since(l.mails[0]) > time.Minute {
		l.mails = l.mails[1:]
	}
	most := 1
	if len(l.mails) >= manyMails {
		due = maxTime(due, l.mails[0].Add(time.Minute))
		most = maxTogether
	}
	if l.r.Digest > 0 {
		most = maxTogether
	}
	for rest := time.Until(due); rest > 0; rest = time.Until(due) {
		select {
		case <-time.After(rest):
		case <-l.hurry:
			due = time.Now()
		case <-ctx.Done():
			return nil
		}
	}
	for {
		l.mu.Lock()
		n := len(l.queue)
		l.mu.Unlock()
		if n >= most {
			break
		}
		more, err := l.fill(ctx)
		if err != nil || !more {
			break
		}
	}
	l.mails = append(l.mails, time.Now())
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]item{}, l.queue[:min(most, len(l.queue))]...)
}

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

func maxTime(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// refusal is the answer of a receiver that understood, and does not take this one thing.
type refusal struct{ error }

// pause is how long to wait after so many tries that failed.
func (t *Teller) pause(tries int, err error) time.Duration {
	pause := t.Pause << min(tries-1, 20)
	var asked *later
	if errors.As(err, &asked) {
		pause = max(pause, asked.after)
	}
	return min(pause, mostPause)
}

// deliver tells things until they are told or given up. It says false when the line ends before.
func (l *line) deliver(ctx context.Context, some []item) bool {
	for tries := 1; ; tries++ {
		said, err := l.tell(ctx, some)
		if ctx.Err() != nil {
			return false
		}
		if err == nil {
			l.done(some, records.ToldIt, said, tries)
			l.trouble(ctx, nil, 0, time.Time{})
			return true
		}
		if l.giveUp(ctx, some, tries, err) {
			return true
		}
		pause := l.t.pause(tries, err)
		l.trouble(ctx, err, tries, time.Now().Add(pause))
		select {
		case <-time.After(pause):
		case <-l.hurry:
			if it := l.next(); len(it) > 0 && it[0].urgent && !some[0].urgent {
				l.tellUrgent(ctx, it[0])
			}
		case <-ctx.Done():
			return false
		}
	}
}

// tellUrgent tells what can't wait behind something that is being tried; once.
func (l *line) tellUrgent(ctx context.Context, it item) {
	if said, err := l.tell(ctx, []item{it}); err == nil {
		l.done([]item{it}, records.ToldIt, said, 1)
	}
}

// giveUp sets things aside that have been tried for long enough.
func (l *line) giveUp(ctx context.Context, some []item, tries int, why error) bool {
	refused := errors.As(why, new(refusal)) && tries >= refusals
	old := tries >= fewTries && time.Since(some[0].r.At) > l.r.Longest.Duration()
	if some[0].id != 0 { // what somebody wants to be tried again is old
		old = tries >= fewTries
	}
	if some[0].urgent && tries >= fewTries {
		l.done(some, records.ToldAside, why.Error(), tries)
		return true
	}
	if !refused && !old {
		return false
	}
	if n, err := l.t.db.CountTold(ctx, l.r.Name, records.ToldAside); err != nil || n >= records.MaxAside {
		return false // it waits in the trail
	}
	l.done(some, records.ToldAside, why.Error(), tries)
	if old && !refused {
		return true
	}
	l.trouble(ctx, nil, 0, time.Time{})
	return true
}

// done takes things out of the line.
func (l *line) done(some []item, state records.ToldState, said string, tries int) {
	l.mu.Lock()
	now := time.Now()
	for i := range some {
		it := &some[i]
		told := records.Told{ID: it.id, Receiver: l.r.Name, Seq: it.r.Seq, Event: it.event, Notices: it.notices, About: about(it), Happened: it.r.At, At: now, Tries: it.tries + tries, State: state, Answer: said}
		if state != records.ToldIt {
			r := it.r
			told.Record = &r
		}
		l.told = append(l.told, told)
		switch {
		case it.urgent:
			l.urgent = l.urgent[1:]
		case it.id == 0:
			l.bytes -= it.size()
			l.queue[0] = item{}
			l.queue = l.queue[1:]
		}
	}
	if len(l.queue) == 0 {
		l.queue, l.bytes = nil, 0
	}
	if len(l.told) > 2*records.MaxTold { // so many are not remembered
		newest := len(l.told) - records.MaxTold
		l.told = append(slices.DeleteFunc(l.told[:newest:newest], func(t records.Told) bool { return t.State == records.ToldIt && t.ID == 0 }), l.told[newest:]...)
	}
	l.mu.Unlock()
	if state != records.ToldIt {
		if err := l.save(context.Background()); err != nil {
			l.t.Log.Error("what a receiver of notices was told was not saved", "receiver", l.r.Name, "cause", err)
		}
	}
}

// trouble notes how it does, and tells once that the receiver is away, and once that it is back.
func (l *line) trouble(ctx context.Context, err error, tries int, next time.Time) {
	why := ""
	if err != nil {
		why = err.Error()
	}
	l.mu.Lock()
	if (l.state.Trouble == "") != (why == "") {
		l.state.Since = time.Now()
	}
	l.state.Trouble, l.state.Next = why, next
	away := l.state.Tries >= awayAfter
	l.state.Tries = tries
	l.mu.Unlock()
	if l.t.Away == nil || ctx.Err() != nil {
		return
	}
	if tries == awayAfter && !away {
		l.t.Away(l.r.Name, fmt.Sprintf("notices can't be told to %s: %s", l.r.Name, why))
	}
	if away && err == nil {
		l.t.Away(l.r.Name, "")
	}
}

// tell makes one try to tell some things; said is what the receiver answered.
func (l *line) tell(ctx context.Context, some []item) (said string, err error) {
	if l.r.Kind == keep.MailMessage {
		return l.mail(ctx, some)
	}
	return l.call(ctx, &some[0])
}
