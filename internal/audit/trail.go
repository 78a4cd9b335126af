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
	// queueLength bounds the records that wait for a batch; past it, whoever
	// adds one waits, so that a flood can't fill the memory.
	queueLength = 4096
	// company is how long a record that nobody waits for waits for others: one
	// commit for many costs next to nothing each.
	company = 10 * time.Millisecond
	// batchLength bounds one transaction, so that nobody waits long for it.
	batchLength = 512
	// maxDetail bounds what a client can make one record hold, in bytes.
	maxDetail = 8192
)

// Trail writes the audit trail. Its one goroutine commits whatever has come
// together while the batch before was written.
type Trail struct {
	ledger Ledger
	log    *slog.Logger
	queue  chan entry
	hurry  chan struct{} // somebody has begun to wait
	done   chan struct{}

	watch []func([]keep.AuditRecord) // set before anything is recorded

	mu     sync.RWMutex // held for reading while adding, so that Close waits for it
	closed bool

	seal *Seal // nil: no checkpoints; owned by the goroutine once it runs
	seq  int64 // of the last record committed; owned by the goroutine
	prev []byte
}

type entry struct {
	record keep.AuditRecord
	done   chan error // takes how it went; nil: nobody wants to know
	hurry  bool       // somebody waits already
}

// Open starts writing at the end of what the ledger holds; seal signs checkpoints,
// nil for none.
func Open(ctx context.Context, ledger Ledger, seal *Seal, log *slog.Logger) (*Trail, error) {
	t := &Trail{ledger: ledger, seal: seal, log: log, queue: make(chan entry, queueLength), hurry: make(chan struct{}, 1), done: make(chan struct{}), prev: Genesis}
	last, err := ledger.LastAudit(ctx)
	switch {
	case err == nil:
		t.seq, t.prev = last.Seq, last.Digest
	case !errors.Is(err, records.ErrNotFound):
		return nil, fmt.Errorf("read the end of the audit trail: %w", err)
	}
	go t.write()
	return t, nil
}

// Watch has a function told of records once they are on disk, in the order of the
// trail. It must not wait, and is set before the first record.
func (t *Trail) Watch(told func([]keep.AuditRecord)) { t.watch = append(t.watch, told) }

// Waiting is how many records wait for the disk, and how many may.
func (t *Trail) Waiting() (waiting, most int) { return len(t.queue), cap(t.queue) }

// errTrail is what a client is told when its action can't be recorded.
func errTrail(cause error) error {
	return &keep.Fault{Reason: keep.TrailUnavailable, Say: "the audit trail can't be written, so nothing is acknowledged; tell the administrator", Cause: cause}
}

// Record adds a record and returns once it is on disk. After an error it is not
// in the trail, and what it tells of must not be acknowledged.
func (t *Trail) Record(r keep.AuditRecord) error {
	done := make(chan error, 1)
	if err := t.add(entry{r, done, true}); err != nil {
		return err
	}
	return <-done
}

// Begin is Record in two steps: the function it returns waits for the disk, and
// may be called more than once.
func (t *Trail) Begin(r keep.AuditRecord) (wait func() error) {
	done := make(chan error, 1)
	if err := t.add(entry{r, done, false}); err != nil {
		return func() error { return err }
	}
	return sync.OnceValue(func() error {
		select {
		case t.hurry <- struct{}{}:
		default:
		}
		return <-done
	})
}

// Note adds a record without waiting for the disk: for what nobody is promised.
func (t *Trail) Note(r keep.AuditRecord) {
	if err := t.add(entry{r, nil, false}); err != nil {
		t.log.Error("audit record lost", "action", r.Action, "account", r.Account, "cause", err)
	}
}

func (t *Trail) add(e entry) error {
	t.mu.RLock()
	defer t.mu.RUnlock()
	if t.closed {
		return errTrail(errors.New("the trail is closed"))
	}
	t.queue <- e
	return nil
}

// Close writes what is waiting and stops.
func (t *Trail) Close() {
	t.mu.Lock()
	if !t.closed {
		t.closed = true
		close(t.queue)
	}
	t.mu.Unlock()
	<-t.done
}

func (t *Trail) write() {
	defer close(t.done)
	defer t.checkpoint(func(int64, time.Time) bool { return true })
	for first := range t.queue {
		batch := t.gather(first)
		err := t.commit(batch)
		if err != nil {
			t.log.Error("audit trail can't be written", "records", len(batch), "cause", err)
			err = errTrail(err)
		}
		for _, e := range batch {
			if e.done != nil {
				e.done <- err
			}
		}
		if t.seal != nil {
			t.checkpoint(t.seal.due)
		}
	}
}

// checkpoint signs how far the trail has come, where that is due.
func (t *Trail) checkpoint(due func(seq int64, now time.Time) bool) {
	if now := time.Now(); t.seal != nil && due(t.seq, now) {
		if err := t.seal.Sign(t.seq, t.prev, now); err != nil {
			t.log.Error("checkpoint of the audit trail not written", "cause", err)
		}
	}
}

// gather takes what else is already waiting, and where nobody waits for an answer
// what comes in a moment.
func (t *Trail) gather(first entry) []entry {
	batch := []entry{first}
	hurry := first.hurry
	var moment <-chan time.Time
	if !hurry {
		moment = time.After(company)
	}
	for len(batch) < batchLength {
		var e entry
		var ok bool
		if hurry {
			select {
			case e, ok = <-t.queue:
			default:
			}
		} else {
			select {
			case e, ok = <-t.queue:
			case <-t.hurry:
				hurry = true
				continue
			case <-moment:
			}
		}
		if !ok {
			return batch
		}
		batch = append(batch, e)
		hurry = hurry || e.hurry
	}
	return batch
}

func (t *Trail) commit(batch []entry) error {
	seq, prev := t.seq, t.prev
	chained := make([]records.ChainedRecord, len(batch))
	for i, e := range batch {
		seq++
		r := e.record
		r.Seq = seq
		if r.At.IsZero() {
			r.At = time.Now()
		}
		r.At = r.At.UTC().Truncate(time.Microsecond)
		r.Duration = r.Duration.Truncate(time.Microsecond)
		if len(r.Detail) > maxDetail {
			r.Detail = r.Detail[:maxDetail]
		}
		digest := Digest(prev, &r)
		chained[i] = records.ChainedRecord{AuditRecord: r, Prev: prev, Digest: digest}
		prev = digest
	}
	if err := t.ledger.AppendAudit(context.Background(), chained); err != nil {
		return err
	}
	t.seq, t.prev = seq, prev
	if len(t.watch) > 0 {
		written := make([]keep.AuditRecord, len(chained))
		for i := range chained {
			written[i] = chained[i].AuditRecord
		}
		for _, told := range t.watch {
			told(written)
		}
	}
	return nil
}
