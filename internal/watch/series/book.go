package series

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

const (
	// pageLength bounds the records that are added up in one transaction.
	pageLength = 2000
	// pace is how often new records are added up when nobody asks.
	pace = 5 * time.Second
	// HoursKept is how long hours are told apart; before that there are days.
	HoursKept = 100 * 24 * time.Hour
	// mostHours bounds over how many hours one transfer is spread.
	mostHours = 24 * 14
	// mostFresh bounds the records that are remembered until they are added up; others
	// are read again.
	mostFresh = 20_000
	// askPages bounds the pages that one question adds up before it is answered.
	askPages = 10
)

// Book adds up the trail, in one goroutine that [Book.Close] ends.
type Book struct {
	db   *records.DB
	log  *slog.Logger
	stop context.CancelFunc
	over sync.WaitGroup
	turn sync.Mutex // held while adding up

	mu    sync.Mutex
	fresh []keep.AuditRecord // that were told of and not added up, oldest first
}

// Open begins to add up what has come since it was last done.
func Open(db *records.DB, log *slog.Logger) *Book {
	ctx, stop := context.WithCancel(context.Background())
	b := &Book{db: db, log: log, stop: stop}
	b.over.Go(func() { b.keepUp(ctx) })
	return b
}

// Close ends the adding up. What is left is added up after the next start.
func (b *Book) Close() {
	b.stop()
	b.over.Wait()
}

func (b *Book) keepUp(ctx context.Context) {
	tick := time.NewTicker(pace)
	defer tick.Stop()
	var tidied time.Time
	for {
		more, err := b.catchUp(ctx, askPages)
		if err == nil && time.Since(tidied) > 24*time.Hour {
			tidied = time.Now()
			err = b.db.ForgetTrafficHours(ctx, tidied.Add(-HoursKept))
		}
		if err != nil && ctx.Err() == nil {
			b.log.Error("traffic over time not added up", "cause", err)
		}
		if more && err == nil {
			continue
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// Recorded is told of new records, so that they need not be read again. It does not wait.
func (b *Book) Recorded(batch []keep.AuditRecord) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.fresh)+len(batch) > mostFresh {
		b.fresh = nil
	}
	b.fresh = append(b.fresh, batch...)
}

// page gives the records behind a place: those that were told of, where they follow,
// else what the trail holds.
func (b *Book) page(ctx context.Context, at int64) ([]keep.AuditRecord, error) {
	b.mu.Lock()
	fresh := b.fresh
	for len(fresh) > 0 && fresh[0].Seq <= at {
		fresh = fresh[1:]
	}
	n := min(len(fresh), pageLength)
	follow := n > 0 && fresh[0].Seq == at+1
	if b.fresh = fresh; follow {
		b.fresh = fresh[n:]
	}
	b.mu.Unlock()
	if follow {
		return fresh[:n], nil
	}
	read, err := b.db.AuditAfter(ctx, at, pageLength)
	page := make([]keep.AuditRecord, len(read))
	for i := range read {
		page[i] = read[i].AuditRecord
	}
	return page, err
}

// catchUp adds up some pages of what is new; more tells that there is more.
func (b *Book) catchUp(ctx context.Context, pages int) (more bool, err error) {
	b.turn.Lock()
	defer b.turn.Unlock()
	at, err := b.db.TrafficCursor(ctx)
	for ; err == nil && pages > 0; pages-- {
		page, err := b.page(ctx, at)
		if err != nil || len(page) == 0 {
			return false, err
		}
		sums := map[records.TrafficKey]records.TrafficSum{}
		for i := range page {
			b.add(ctx, sums, &page[i])
		}
		at = page[len(page)-1].Seq
		if err := b.db.AddTraffic(ctx, sums, at); err != nil || len(page) < pageLength {
			return false, err
		}
	}
	return true, err
}

// add puts a record where it belongs. The bytes of a transfer count in the hours in
// which it ran, as if it had moved them evenly; all else in the hour in which it ended.
func (b *Book) add(ctx context.Context, sums map[records.TrafficKey]records.TrafficSum, r *keep.AuditRecord) {
	if !counts(r) {
		return
	}
	account, groups, mount := b.belongs(ctx, r)
	key := records.TrafficKey{At: r.At.Truncate(time.Hour), Account: account, Groups: groups, Address: r.Address, Protocol: string(r.Protocol), Action: string(r.Action), Mount: mount}
	put := func(s records.TrafficSum) {
		sum := sums[key]
		sum.Add(s)
		sums[key] = sum
	}
	whole := sumOf(r)
	left := whole.Up + whole.Down
	whole.Up, whole.Down = 0, 0
	put(whole)
	for end := r.At; left > 0; end = key.At {
		key.At = end.Add(-1).Truncate(time.Hour)
		begin := r.At.Add(-r.Duration)
		part := left
		if begin.Before(key.At) && r.At.Sub(key.At) < mostHours*time.Hour {
			part = int64(float64(left) * float64(end.Sub(key.At)) / float64(end.Sub(begin)))
		}
		left -= part
		if r.Action == keep.Uploading {
			put(records.TrafficSum{Up: part})
		} else {
			put(records.TrafficSum{Down: part})
		}
	}
}

// counts reports whether a record tells of an operation of an account holder.
func counts(r *keep.AuditRecord) bool {
	return r.Operator == "" && !r.Rehearsal && (r.Protocol.IsFTP() || r.Protocol == keep.SFTP || r.Protocol == keep.SCP || r.Protocol == keep.Portal || r.Protocol == keep.WebDAV || r.Protocol == keep.ByPass) &&
		r.Action != keep.SignOut && r.Action != keep.Rehearsing && r.Action != keep.LockedOut
}

func sumOf(r *keep.AuditRecord) records.TrafficSum {
	s := records.TrafficSum{Micros: r.Duration.Microseconds()}
	switch r.Outcome {
	case keep.Done:
		s.Done = 1
	case keep.Refused:
		s.Refused = 1
	default:
		s.Failed = 1
	}
	switch r.Action {
	case keep.Uploading:
		s.Up = r.Bytes
	case keep.Downloading:
		s.Down = r.Bytes
	}
	return s
}

// belongs says whom and what a record is counted for: the account, its groups, and the
// mount that the path lies in. A name that nobody has, tried at the door, is nobody's.
func (b *Book) belongs(ctx context.Context, r *keep.AuditRecord) (account, groups, mount string) {
	holder, err := b.db.Holder(ctx, r.Account)
	if err != nil {
		if r.Action == keep.SignIn && r.Outcome != keep.Done {
			return "", "", ""
		}
		return r.Account, "", ""
	}
	e := holder.Account
	var best *keep.Mount
	for i := range e.Mounts {
		if m := &e.Mounts[i]; r.Path != "" && keep.Covers(m.At, r.Path) && (best == nil || len(m.At) > len(best.At)) {
			best = m
		}
	}
	if best != nil {
		mount = best.Store + ":" + best.FolderFor(e.Name)
	}
	return r.Account, strings.Join(e.Groups, ","), mount
}
