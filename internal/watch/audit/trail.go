package audit

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

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
}

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
	ledger  Ledger
	journal *Journal // nil: what the ledger has not got ends with the process
	seal    *Seal    // nil: no checkpoints; the goroutine's
	log     *slog.Logger
	wake    chan struct{}
	done    chan struct{}
	watch   []func([]keep.AuditRecord) // set before anything is recorded

	mu        sync.Mutex
	moved     *sync.Cond // the ledger got records, or can't get any
	closed    bool
	seq       int64 // of the last record
	prev      []byte
	pending   []records.ChainedRecord // for the ledger, oldest first
	flying    int                     // that the goroutine has taken and not yet brought
	committed int64                   // the last record that the ledger has
	stuck     error                   // why the ledger can't be written; nil: it can
}

// Open starts writing at the end of what the ledger holds, and brings it what the
// journal still has from an end without goodbye. Seal signs checkpoints, nil for none;
// the trail closes the journal.
func Open(ctx context.Context, ledger Ledger, journal *Journal, seal *Seal, log *slog.Logger) (*Trail, error) {
	t := &Trail{ledger: ledger, journal: journal, seal: seal, log: log, wake: make(chan struct{}, 1), done: make(chan struct{}), prev: Genesis}
	t.moved = sync.NewCond(&t.mu)
	last, err := ledger.LastAudit(ctx)
	switch {
	case err == nil:
		t.seq, t.prev = last.Seq, last.Digest
	case !errors.Is(err, records.ErrNotFound):
		return nil, fmt.Errorf("read the end of the audit trail: %w", err)
	}
	if journal != nil {
		if err := t.recover(ctx); err != nil {
			return nil, errors.Join(fmt.Errorf("bring the journal into the audit trail: %w", err), journal.Close())
		}
	}
	t.committed = t.seq
	go t.write()
	return t, nil
}

func (t *Trail) recover(ctx context.Context) error {
	left, bad := t.journal.left(t.seq, t.prev)
	if bad != nil {
		aside, err := t.journal.setAside()
		t.log.Error("the journal of the audit trail does not go on where the trail ends; what follows in it is set aside", "cause", bad, "files", aside)
		if err != nil {
			return err
		}
	}
	for len(left) > 0 {
		n := min(len(left), batchLength)
		if err := t.ledger.AppendAudit(ctx, left[:n]); err != nil {
			return err
		}
		t.seq, t.prev, left = left[n-1].Seq, left[n-1].Digest, left[n:]
	}
	return t.journal.empty()
}

// Watch has a function told of records once the ledger has them, in the order of the
// trail. It must not wait, and is set before the first record.
func (t *Trail) Watch(told func([]keep.AuditRecord)) { t.watch = append(t.watch, told) }

// Waiting is how many records wait for the ledger, and how many may.
func (t *Trail) Waiting() (waiting, most int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.pending) + t.flying, queueLength
}

// errTrail is what a client is told when its action can't be recorded.
func errTrail(cause error) error {
	return &keep.Fault{Reason: keep.TrailUnavailable, Say: "the audit trail can't be written, so nothing is acknowledged; tell the administrator", Cause: cause}
}

// Record adds a record and returns once it is on disk. After an error it is not
// in the trail, and what it tells of must not be acknowledged.
func (t *Trail) Record(r keep.AuditRecord) error {
	if err := t.add(r, true); err != nil {
		return errTrail(err)
	}
	return nil
}

// Note adds a record without writing it at once: for what nobody is promised.
func (t *Trail) Note(r keep.AuditRecord) {
	if err := t.add(r, false); err != nil {
		t.log.Error("audit record lost", "action", r.Action, "account", r.Account, "cause", err)
	}
}

var errClosed = errors.New("the trail is closed")

func (t *Trail) add(r keep.AuditRecord, durable bool) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	for len(t.pending)+t.flying >= queueLength && t.stuck == nil && !t.closed {
		t.moved.Wait()
	}
	if t.closed {
		return errClosed
	}
	if t.stuck != nil {
		return t.stuck
	}
	chained, err := t.chain(&r, durable)
	if err != nil {
		return err
	}
	t.seq, t.prev = chained.Seq, chained.Digest
	if t.pending = append(t.pending, chained); len(t.pending) == 1 || len(t.pending) == batchLength {
		t.hurry()
	}
	return nil
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
func (t *Trail) chain(r *keep.AuditRecord, durable bool) (records.ChainedRecord, error) {
	r.Seq = t.seq + 1
	if r.At.IsZero() {
		r.At = time.Now()
	}
	r.At = r.At.UTC().Truncate(time.Microsecond)
	r.Duration = r.Duration.Truncate(time.Microsecond)
	if len(r.Detail) > maxDetail {
		r.Detail = r.Detail[:maxDetail]
	}
	if t.journal != nil {
		return t.journal.add(t.prev, r, durable)
	}
	return records.ChainedRecord{AuditRecord: *r, Prev: t.prev, Digest: Digest(t.prev, r)}, nil
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
		t.moved.Broadcast()
	}
	t.mu.Unlock()
	<-t.done
}

// write brings records to the ledger until the trail is closed.
func (t *Trail) write() {
	defer close(t.done)
	last := records.ChainedRecord{} // that the ledger got
	for open := true; open; {
		if _, open = <-t.wake; open {
			select {
			case <-time.After(company):
			case _, open = <-t.wake: // enough have come, or somebody waits
			}
		}
		for batch := t.take(); len(batch) > 0 && t.commit(batch); batch = t.take() {
			last = batch[len(batch)-1]
			t.checkpoint(&last, t.seal.due)
		}
	}
	t.checkpoint(&last, func(int64, time.Time) bool { return true })
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.journal == nil {
		return
	}
	end := t.journal.flush
	if t.committed == t.seq {
		end = t.journal.empty
	}
	if err := errors.Join(end(), t.journal.Close()); err != nil {
		t.log.Error("journal of the audit trail not closed", "cause", err)
	}
}

// take takes the next batch off what waits.
func (t *Trail) take() (batch []records.ChainedRecord) {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := min(len(t.pending), batchLength)
	batch, t.pending = t.pending[:n:n], t.pending[n:]
	t.flying = n
	return batch
}

// commit brings a batch to the ledger. A ledger that fails is tried again and again,
// and nothing is taken meanwhile; false says that it still failed when the trail was
// closed. The journal outlives that.
func (t *Trail) commit(batch []records.ChainedRecord) bool {
	for {
		err := t.ledger.AppendAudit(context.Background(), batch)
		t.mu.Lock()
		if t.stuck = err; err == nil {
			t.flying, t.committed = 0, batch[len(batch)-1].Seq
			if t.journal != nil {
				if err := t.journal.free(t.committed); err != nil {
					t.log.Error("journal of the audit trail not emptied", "cause", err)
				}
			}
		}
		t.moved.Broadcast()
		closed := t.closed
		t.mu.Unlock()
		if err == nil {
			t.tell(batch)
			return true
		}
		t.log.Error("audit trail can't be written", "records", len(batch), "cause", err)
		if closed {
			return false
		}
		time.Sleep(again)
	}
}

// checkpoint signs how far the trail has come, where that is due.
func (t *Trail) checkpoint(last *records.ChainedRecord, due func(seq int64, now time.Time) bool) {
	if now := time.Now(); t.seal != nil && last.Seq > 0 && due(last.Seq, now) {
		if err := t.seal.Sign(last.Seq, last.Digest, now); err != nil {
			t.log.Error("checkpoint of the audit trail not written", "cause", err)
		}
	}
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
