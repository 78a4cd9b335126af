package audit

import (
	"context"
	"fmt"
	"time"

	"urbankeep/internal/keep"
)

// Change saves a change and records it: both stand or fall together. What save writes with
// its context, and the record, are one transaction; from there the record goes into the
// trail, at once or, when that can't be written now, as soon as it can. save may be nil, for
// what happens in no records.
func (t *Trail) Change(ctx context.Context, r keep.AuditRecord, save func(context.Context) error) error {
	ctx = context.WithoutCancel(ctx) // half of it must not happen because who asked has gone
	r.At = time.Now().UTC().Truncate(time.Microsecond)
	err := t.Outbox.Together(ctx, func(ctx context.Context) error {
		if save != nil {
			if err := save(ctx); err != nil {
				return err
			}
		}
		_, err := t.Outbox.AddDue(ctx, r)
		return err
	})
	if err != nil {
		return err
	}
	if err := t.deliver(ctx); err != nil {
		t.Log.Error("a change is in force and will be in the audit trail once that can be written", "action", r.Action, "cause", err)
		t.owe()
	}
	return nil
}

// owe has what is due delivered later.
func (t *Trail) owe() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		return
	}
	select {
	case t.owing <- struct{}{}:
	default:
	}
}

// deliver puts what is due into the trail, in its order.
func (t *Trail) deliver(ctx context.Context) error {
	t.paying.Lock()
	defer t.paying.Unlock()
	due, err := t.Outbox.DueRecords(ctx)
	if err != nil {
		return err
	}
	for _, d := range due {
		if !t.within[d.ID] {
			if err := t.Record(d.Record); err != nil {
				return err
			}
			t.within[d.ID] = true
		}
		if err := t.Outbox.DropDue(ctx, d.ID); err != nil {
			return err
		}
		delete(t.within, d.ID)
	}
	return nil
}

// sweepDue forgets what came into the trail before the process ended, and was not crossed off.
func (t *Trail) sweepDue(ctx context.Context) error {
	if t.Outbox == nil {
		return nil
	}
	due, err := t.Outbox.DueRecords(ctx)
	if err != nil {
		return fmt.Errorf("read what is due for the audit trail: %w", err)
	}
	for _, d := range due {
		there, err := t.Outbox.InTrail(ctx, &d.Record)
		if err == nil && there {
			err = t.Outbox.DropDue(ctx, d.ID)
		}
		if err != nil {
			return fmt.Errorf("read what is due for the audit trail: %w", err)
		}
	}
	if len(due) > 0 {
		t.owing <- struct{}{}
	}
	return nil
}

// pay delivers what is due, until the trail is closed.
func (t *Trail) pay() {
	defer close(t.paid)
	for range t.owing {
		for t.deliver(context.Background()) != nil {
			t.mu.Lock()
			closed := t.closed
			t.mu.Unlock()
			if closed {
				return
			}
			time.Sleep(again)
		}
	}
}
