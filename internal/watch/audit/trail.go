package audit

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
	"unicode/utf8"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// Ledger is where a trail is kept.
type Ledger interface {
	AppendAudit(ctx context.Context, batch []records.ChainedRecord) error
	LastAudit(ctx context.Context) (records.ChainedRecord, error)
	AuditAfter(ctx context.Context, seq int64, limit int) ([]records.ChainedRecord, error)
	AuditGaps(ctx context.Context) ([]records.AuditGap, error)
	Archives(ctx context.Context) ([]records.AuditArchive, error)
	Setting(ctx context.Context, name string) (string, error)
	SaveSetting(ctx context.Context, name, value string) error
}

// signedSetting keeps which record the newest checkpoint is about, so that a file of checkpoints that is gone is missed.
const signedSetting = "audit-signed"

const (
	// queueLength bounds the records that wait for the ledger; past it, whoever adds
	// one waits, so that a flood can't fill the memory.
	queueLength = 4096
	// company is how long a record waits for others before the ledger gets it: one
	// transaction for many costs next to nothing each.
	company = 100 * time.Millisecond
	// batchLength bounds one transaction, so that nobody waits long for it.
	batchLength = 512
	// maxDetail bounds what a client can make one record hold, in bytes.
	maxDetail = 8192
	// again is how long the trail waits before it tries a ledger anew that failed.
	again = 500 * time.Millisecond
)

// Trail writes the audit trail. Whoever adds a record chains it and writes it to the
// journal; one goroutine brings what has come together to the ledger.
type Trail struct {
	Options
	ledger Ledger
	wake   chan struct{}
	done   chan struct{}
	owing  chan struct{}              // somebody could not deliver what is due
	paid   chan struct{}              // closed when nothing is delivered any more
	paying sync.Mutex                 // who delivers is alone
	within map[int64]bool             // what is in the trail and not crossed off; guarded by paying
	watch  []func([]keep.AuditRecord) // set before anything is recorded

	mu        sync.Mutex
	moved     *sync.Cond // the ledger got records, or can't get any
	closed    bool
	seq       int64 // of the last record
	prev      []byte
	pending   []records.ChainedRecord // for the ledger, oldest first
	brought   []records.ChainedRecord // that the goroutine has taken, and brings to the ledger
	committed int64                   // the last record that the ledger has
	stuck     error                   // why records can't be written; nil: they can
	lost      int                     // notes since the last line in the log about such
	lostAt    time.Time               // when that line was written
	syncing   bool                    // somebody brings the journal to the medium
	synced    int64                   // the last record that is on the medium
	unsound   error                   // why a sync failed last
	unsoundTo int64                   // the last record that it was about: none up to it is on the medium until the ledger has it
}

// Options are what a trail may have beside its ledger.
type Options struct {
	Journal *Journal                      // nil: what the ledger has not got ends with the process
	Seal    *Seal                         // nil: no checkpoints
	CutOff  func(b Begun) (detail string) // says what is left of something that was cut off; nil: nobody knows
	Room    func() error                  // says why there is no room for records, nil when there is; nil: there always is
	Sync    func(*os.File) error          // brings a file of the journal to the medium; nil: as the system does
	Power   func() bool                   // whether a record is to be on the medium when it is acknowledged; nil: it need not be
	Quiet   time.Duration                 // how long the last records may stay unsigned; 0: ten minutes
	Outbox  Outbox                        // nil: the ledger is it
	Log     *slog.Logger
}

// Outbox is where a change is saved together with its record. It is the ledger's too.
type Outbox interface {
	// Together runs do so that what it writes with its context stands or falls as one.
	Together(ctx context.Context, do func(context.Context) error) error
	AddDue(ctx context.Context, r keep.AuditRecord) (id int64, err error)
	DropDue(ctx context.Context, id int64) error
	DueRecords(ctx context.Context) ([]records.Due, error)
	InTrail(ctx context.Context, r *keep.AuditRecord) (bool, error)
}

// Open starts writing at the end of what the ledger holds, and brings it what the
// journal still has from an end without goodbye. The trail closes the journal.
func Open(ctx context.Context, ledger Ledger, o Options) (*Trail, error) {
	t := &Trail{Options: o, ledger: ledger, wake: make(chan struct{}, 1), done: make(chan struct{}), owing: make(chan struct{}, 1), paid: make(chan struct{}), within: map[int64]bool{}, prev: Genesis}
	t.moved = sync.NewCond(&t.mu)
	if t.Outbox == nil {
		t.Outbox, _ = ledger.(Outbox)
	}
	last, err := ledger.LastAudit(ctx)
	switch {
	case err == nil:
		t.seq, t.prev = last.Seq, last.Digest
	case !errors.Is(err, records.ErrNotFound):
		return nil, fmt.Errorf("read the end of the audit trail: %w", err)
	}
	if t.Journal != nil {
		if err := t.recover(ctx); err != nil {
			return nil, errors.Join(fmt.Errorf("bring the journal into the audit trail: %w", err), t.Journal.Close())
		}
	}
	t.committed, t.synced = t.seq, t.seq
	if err := t.sweepDue(ctx); err != nil {
		return nil, err
	}
	go t.pay()
	go t.write(records.ChainedRecord{AuditRecord: keep.AuditRecord{Seq: t.seq}, Digest: t.prev})
	return t, nil
}

func (t *Trail) recover(ctx context.Context) error {
	left, begun, bad := t.Journal.left(t.seq, t.prev)
	if bad != nil {
		aside, err := t.Journal.setAside()
		t.Log.Error("the journal of the audit trail does not go on where the trail ends; what follows in it is set aside", "cause", bad, "files", aside)
		if err != nil {
			return err
		}
	}
	prev := t.prev
	if len(left) > 0 {
		prev = left[len(left)-1].Digest
	}
	for _, b := range begun {
		r := t.cutOff(b)
		r.Seq = t.seq + int64(len(left)) + 1
		left = append(left, records.ChainedRecord{AuditRecord: r, Prev: prev, Digest: Digest(prev, &r)})
		prev = left[len(left)-1].Digest
	}
	for len(left) > 0 {
		n := min(len(left), batchLength)
		if err := t.ledger.AppendAudit(ctx, left[:n]); err != nil {
			return err
		}
		t.seq, t.prev = left[n-1].Seq, left[n-1].Digest
		if t.Seal.due(t.seq, time.Now()) {
			if err := t.sign(ctx, t.seq, t.prev); err != nil {
				return err
			}
		}
		left = left[n:]
	}
	return errors.Join(t.Journal.empty(), t.Journal.start())
}

// cutOff is the record of something that the end of the process cut off.
func (t *Trail) cutOff(b Begun) keep.AuditRecord {
	r := b.Record
	r.Outcome, r.Reason, r.Detail = keep.Interrupted, keep.CutOff, "the service ended while this was under way"
	if t.CutOff != nil {
		if more := t.CutOff(b); more != "" {
			r.Detail += ": " + more
		}
	}
	return r
}

// Watch has a function told of records once the ledger has them, in the order of the
// trail. It must not wait, and is set before the first record.
func (t *Trail) Watch(told func([]keep.AuditRecord)) { t.watch = append(t.watch, told) }

// Waiting is how many records wait for the ledger, and how many may.
func (t *Trail) Waiting() (waiting, most int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.pending) + len(t.brought), queueLength
}

// Unwritten are the records that wait for the ledger and are what a search asks for, newest first: at most its limit.
func (t *Trail) Unwritten(q *records.AuditQuery) (found []keep.AuditRecord) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, waiting := range [][]records.ChainedRecord{t.pending, t.brought} {
		for i := len(waiting) - 1; i >= 0 && len(found) < q.Limit; i-- {
			if r := &waiting[i].AuditRecord; r.Seq > t.committed && (q.Before == 0 || r.Seq < q.Before) && q.Matches(r) {
				found = append(found, *r)
			}
		}
	}
	return found
}

// Stuck says why records can't be written, nil when they can.
func (t *Trail) Stuck() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.stuck
}

// errTrail is what a client is told when its action can't be recorded.
func errTrail(cause error) error {
	return &keep.Fault{Reason: keep.TrailUnavailable, Say: "nothing is done now, for it could not be recorded: tell the administrator that the audit trail can't be written", Cause: cause}
}

// Announce says what is about to be done at a place (a store and a path in it, "" for
// nowhere), and keeps room for its record, whose texts r has already. After an error it must
// not be done. What is not ended when the process ends is found by the next start. The
// function that it gives must be called once: it ends what was announced with its record,
// and returns when that is written, if it is one of something done.
func (t *Trail) Announce(r keep.AuditRecord, place string) (end func(keep.AuditRecord) error, err error) {
	return t.reserve(&r, func() (int64, error) {
		if r.At.IsZero() {
			r.At = time.Now()
		}
		return t.Journal.begin(&r, place)
	})
}

// Hold keeps room for a record that will come for certain, as that of a session's end, and
// announces nothing. It gives what [Trail.Announce] gives.
func (t *Trail) Hold(r keep.AuditRecord) (end func(keep.AuditRecord) error, err error) {
	return t.reserve(&r, func() (int64, error) { return 0, nil })
}

func (t *Trail) reserve(r *keep.AuditRecord, begin func() (int64, error)) (func(keep.AuditRecord) error, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	err := t.ready()
	if t.Journal == nil || err != nil {
		return t.finish, orTrail(err)
	}
	kept := roomFor(r)
	if err := t.Journal.reserve(kept); err != nil {
		return nil, errTrail(err)
	}
	number, err := begin()
	if err != nil {
		t.Journal.release(kept)
		return nil, errTrail(err)
	}
	return func(r keep.AuditRecord) error { return t.end(r, number, kept) }, nil
}

func orTrail(err error) error {
	if err != nil {
		err = errTrail(err)
	}
	return err
}

// ready waits until there is room in the queue, and says why nothing can be recorded. The
// caller holds mu.
func (t *Trail) ready() error {
	for len(t.pending)+len(t.brought) >= queueLength && t.stuck == nil && !t.closed {
		t.moved.Wait()
	}
	if t.closed {
		return errClosed
	}
	return t.stuck
}

// finish records the end of something for which no room was kept.
func (t *Trail) finish(r keep.AuditRecord) error { return t.end(r, 0, 0) }

func (t *Trail) end(r keep.AuditRecord, number, kept int64) error {
	durable := r.Outcome == keep.Done && r.Action != keep.Listing && r.Action != keep.SignOut
	err := t.add(&r, durable, number, kept)
	if err == nil && durable {
		err = t.onMedium(r.Seq)
	}
	if err != nil && !durable {
		t.miss(&r, err)
		return nil
	}
	return orTrail(err)
}

// Record adds a record and returns once it is written. After an error it is not
// in the trail, and what it tells of must not be acknowledged.
func (t *Trail) Record(r keep.AuditRecord) error {
	err := t.add(&r, true, 0, 0)
	if err == nil {
		err = t.onMedium(r.Seq)
	}
	return orTrail(err)
}

// Note adds a record without writing it at once: for what nobody is promised.
func (t *Trail) Note(r keep.AuditRecord) {
	if err := t.add(&r, false, 0, 0); err != nil {
		t.miss(&r, err)
	}
}

// lostPace is how often the log says that notes are lost.
const lostPace = 10 * time.Second

// miss tells the log of a note that nobody can read in the trail.
func (t *Trail) miss(r *keep.AuditRecord, cause error) {
	t.mu.Lock()
	t.lost++
	lost, tell := t.lost, time.Since(t.lostAt) > lostPace
	if tell {
		t.lost, t.lostAt = 0, time.Now()
	}
	t.mu.Unlock()
	if tell {
		t.Log.Error("audit records of refusals and failures lost", "records", lost, "action", r.Action, "account", r.Account, "cause", cause)
	}
}

var errClosed = errors.New("the trail is closed")

// add chains a record, for which room may have been kept: then it is taken even while the
// ledger can't be written.
func (t *Trail) add(r *keep.AuditRecord, durable bool, number, kept int64) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.ready(); err != nil && (kept == 0 || t.closed) {
		return err
	}
	chained, err := t.chain(r, durable, number, kept)
	if err != nil {
		t.block(err)
		return err
	}
	t.seq, t.prev = chained.Seq, chained.Digest
	if t.pending = append(t.pending, chained); len(t.pending) == 1 || len(t.pending) == batchLength {
		t.hurry()
	}
	return nil
}

// block lets nothing more in until the ledger could be written again, which the goroutine
// tries. The caller holds mu.
func (t *Trail) block(cause error) {
	if t.stuck == nil {
		t.Log.Error("the journal of the audit trail can't be written", "cause", cause)
	}
	t.stuck = cause
	t.hurry()
}

// hurry wakes the goroutine. The caller holds mu.
func (t *Trail) hurry() {
	if t.closed {
		return
	}
	select {
	case t.wake <- struct{}{}:
	default:
	}
}

// chain makes a record the next of the trail, and of the journal. The caller holds mu.
func (t *Trail) chain(r *keep.AuditRecord, durable bool, number, kept int64) (records.ChainedRecord, error) {
	r.Seq = t.seq + 1
	if r.At.IsZero() {
		r.At = time.Now()
	}
	r.At = r.At.UTC().Truncate(time.Microsecond)
	r.Duration = r.Duration.Truncate(time.Microsecond)
	for _, value := range []*json.RawMessage{&r.Before, &r.After} {
		if *value != nil {
			*value, _ = json.Marshal(*value) // in the one form that JSON keeps on all its ways; what is no JSON is left out
		}
	}
	most := maxDetail
	if kept > 0 {
		most = detailRoom // for so much there is room
	}
	if len(r.Detail) > most {
		for range utf8.UTFMax - 1 { // between two characters
			if !utf8.RuneStart(r.Detail[most]) {
				most--
			}
		}
		r.Detail = r.Detail[:most]
	}
	if t.Journal != nil {
		return t.Journal.add(t.prev, r, durable, number, kept)
	}
	return records.ChainedRecord{AuditRecord: *r, Prev: t.prev, Digest: Digest(t.prev, r)}, nil
}

// onMedium waits until a record is on the medium, if that is asked for. Whoever comes while
// others wait goes with them.
func (t *Trail) onMedium(seq int64) error {
	if t.Power == nil || !t.Power() || t.Journal == nil {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for max(t.synced, t.committed) < seq {
		if seq <= t.unsoundTo || t.Journal.spoiled() { // whoever waited beside the one who was told
			return t.unsound
		}
		if t.syncing {
			t.moved.Wait()
			continue
		}
		err := t.Journal.flush()
		upTo, parts := t.seq, t.Journal.unsynced()
		t.syncing = true
		t.mu.Unlock()
		failed := make([]error, len(parts))
		for i, p := range parts {
			failed[i] = t.sync(p.file)
		}
		t.mu.Lock()
		t.syncing = false
		t.moved.Broadcast()
		for i, p := range parts {
			p.spoiled = p.spoiled || failed[i] != nil
		}
		if err = errors.Join(append(failed, err)...); err != nil {
			t.unsound, t.unsoundTo = err, upTo
			t.block(err)
			return err
		}
		t.synced = upTo
	}
	return nil
}

// sync brings a file of the journal to the medium.
func (t *Trail) sync(f *os.File) error {
	if t.Sync != nil {
		return t.Sync(f)
	}
	return records.SyncData(f)
}

// Settle waits until the ledger has every record that was there when it was called, so
// that who reads the ledger finds them; not longer than until ctx ends.
func (t *Trail) Settle(ctx context.Context) {
	stop := context.AfterFunc(ctx, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.moved.Broadcast()
	})
	defer stop()
	t.mu.Lock()
	defer t.mu.Unlock()
	for seq := t.seq; t.committed < seq && t.stuck == nil && ctx.Err() == nil; {
		t.hurry()
		t.moved.Wait()
	}
}

// Close brings the ledger what is waiting and stops.
func (t *Trail) Close() {
	t.mu.Lock()
	if !t.closed {
		t.closed = true
		close(t.wake)
		close(t.owing)
		t.moved.Broadcast()
	}
	t.mu.Unlock()
	<-t.done
	<-t.paid
}

// write brings records to the ledger until the trail is closed; last is the last that it has.
func (t *Trail) write(last records.ChainedRecord) {
	defer close(t.done)
	quiet := time.NewTicker(cmp.Or(t.Quiet, checkpointInterval))
	defer quiet.Stop()
	for open := true; open; {
		select {
		case <-quiet.C:
			t.checkpoint(&last, func(int64, time.Time) bool { return true })
			continue
		case _, open = <-t.wake:
		}
		if open {
			select {
			case <-time.After(company):
			case _, open = <-t.wake: // enough have come, or somebody waits
			}
		}
		for batch := t.take(); len(batch) > 0 && t.commit(batch); batch = t.take() {
			last = batch[len(batch)-1]
			t.checkpoint(&last, t.Seal.due)
		}
		t.unblock()
	}
	t.checkpoint(&last, func(int64, time.Time) bool { return true })
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.Journal == nil {
		return
	}
	end := t.Journal.flush
	if t.committed == t.seq && len(t.Journal.open) == 0 {
		end = t.Journal.empty
	}
	if err := errors.Join(end(), t.Journal.Close()); err != nil {
		t.Log.Error("journal of the audit trail not closed", "cause", err)
	}
}

// take takes the next batch off what waits.
func (t *Trail) take() (batch []records.ChainedRecord) {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := min(len(t.pending), batchLength)
	batch, t.pending = t.pending[:n:n], t.pending[n:]
	t.brought = batch
	return batch
}

// commit brings a batch to the ledger. A ledger that fails is tried again and again,
// and nothing is begun meanwhile; false says that it still failed when the trail was
// closed. The journal outlives that.
func (t *Trail) commit(batch []records.ChainedRecord) bool {
	for told := (time.Time{}); ; {
		err := t.room()
		if err == nil {
			err = t.ledger.AppendAudit(context.Background(), batch)
		}
		t.mu.Lock()
		if t.stuck = err; err == nil {
			t.brought, t.committed = nil, batch[len(batch)-1].Seq
		}
		t.moved.Broadcast()
		closed := t.closed
		t.mu.Unlock()
		if err == nil {
			t.turn()
			t.tell(batch)
			return true
		}
		if time.Since(told) > lostPace {
			told = time.Now()
			t.Log.Error("audit trail can't be written; nothing is done until it can", "records", len(batch), "cause", err)
		}
		if closed {
			return false
		}
		time.Sleep(again)
	}
}

func (t *Trail) room() error {
	if t.Room == nil {
		return nil
	}
	return t.Room()
}

// unblock lets things begin again that a journal kept out which could not be written, once
// it can.
func (t *Trail) unblock() {
	for {
		t.mu.Lock()
		if t.stuck == nil || t.closed {
			t.mu.Unlock()
			return
		}
		if len(t.pending) > 0 {
			t.hurry() // the ledger says whether it goes on
			t.mu.Unlock()
			return
		}
		spoiled := t.Journal != nil && t.Journal.spoiled()
		if spoiled {
			t.mu.Unlock()
			t.turn() // the ledger has all of it
			t.mu.Lock()
			spoiled = t.Journal.spoiled()
		}
		err := t.room()
		if spoiled {
			err = errors.Join(err, t.unsound)
		}
		if err == nil && t.Journal != nil {
			err = errors.Join(t.Journal.flush(), t.Journal.reserve(journalTurn/16))
			if err == nil {
				t.Journal.release(journalTurn / 16)
			}
		}
		t.stuck = err
		t.moved.Broadcast()
		t.mu.Unlock()
		if err == nil {
			t.Log.Info("the journal of the audit trail can be written again")
			return
		}
		time.Sleep(again)
	}
}

// turn cleans the file of the journal whose records the ledger has, and goes on in it when
// the other one is long enough.
func (t *Trail) turn() {
	if t.Journal == nil {
		return
	}
	t.mu.Lock()
	old := t.Journal.freed(t.committed)
	t.mu.Unlock()
	var err error
	if old != nil {
		err = old.clean()
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if err == nil {
		if old != nil {
			old.dirty, old.spoiled, t.Journal.others = false, false, 0
		}
		err = t.Journal.turn()
	}
	if err != nil {
		t.Log.Error("journal of the audit trail not emptied", "cause", err)
	}
}

// checkpoint signs how far the trail has come, where that is due. None is left out: while it
// can't be written, nothing is begun.
func (t *Trail) checkpoint(last *records.ChainedRecord, due func(seq int64, now time.Time) bool) {
	if t.Seal == nil || last.Seq == 0 {
		return
	}
	for now := time.Now(); due(last.Seq, now); now = time.Now() {
		err := t.sign(context.Background(), last.Seq, last.Digest)
		if err == nil {
			return
		}
		t.mu.Lock()
		t.block(fmt.Errorf("write a checkpoint: %w", err))
		closed := t.closed
		t.mu.Unlock()
		if closed {
			t.Log.Error("checkpoint of the audit trail not written", "cause", err)
			return
		}
		time.Sleep(again)
	}
}

// Sign signs how far the trail has come now.
func (t *Trail) Sign(ctx context.Context) error {
	t.Settle(ctx)
	last, err := t.ledger.LastAudit(ctx)
	if errors.Is(err, records.ErrNotFound) || t.Seal == nil {
		return nil
	}
	if err == nil {
		err = t.sign(ctx, last.Seq, last.Digest)
	}
	return err
}

// sign writes a checkpoint, and then keeps that there is one.
func (t *Trail) sign(ctx context.Context, seq int64, digest []byte) error {
	if err := t.Seal.Sign(seq, digest, time.Now()); err != nil {
		return err
	}
	return t.ledger.SaveSetting(ctx, signedSetting, fmt.Sprint(t.Seal.Last().Seq))
}

// tell tells those who watch.
func (t *Trail) tell(batch []records.ChainedRecord) {
	if len(t.watch) == 0 {
		return
	}
	written := make([]keep.AuditRecord, len(batch))
	for i := range batch {
		written[i] = batch[i].AuditRecord
	}
	for _, told := range t.watch {
		told(written)
	}
}
