package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// Records stand in the trail in the order in which they were written. Their times are in the
// same order, but for moments, until somebody sets the clock back: that is a turn. Between
// two turns, what is sought by time is found by halving.

// moments is how far behind the latest time of its stretch a record may be without being a turn.
const moments = 2 * time.Second

// maxTurns bounds the stretches that are looked at: with more, all records are.
const maxTurns = 64

// turns is where the newest stretch is; the zero value is to be read.
type turns struct {
	known  bool
	latest int64 // the latest time in the newest stretch, microseconds
}

// noteTurns writes down which records of a batch are turns.
func (db *DB) noteTurns(ctx context.Context, tx *sqlx.Tx, batch []ChainedRecord) (latest int64, err error) {
	latest = db.turns.latest
	if !db.turns.known {
		err := tx.GetContext(ctx, &latest, "SELECT coalesce(max(at), 0) FROM audit_record WHERE seq >= coalesce((SELECT max(seq) FROM audit_turn), 0)")
		if err != nil {
			return 0, err
		}
	}
	for i := range batch {
		at := batch[i].At.UnixMicro()
		if at < latest-moments.Microseconds() {
			if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO audit_turn (seq) VALUES (?)", batch[i].Seq); err != nil {
				return 0, err
			}
			latest = at
		}
		latest = max(latest, at)
	}
	return latest, nil
}

// timeBounds are the places between which the times of a query lie: above low, up to high.
func (db *DB) timeBounds(ctx context.Context, q *AuditQuery, high int64) (to, low int64, err error) {
	var starts []int64
	if err := db.read.SelectContext(ctx, &starts, "SELECT seq FROM audit_turn WHERE seq <= ? ORDER BY seq", high); err != nil {
		return 0, 0, err
	}
	if len(starts) > maxTurns {
		return high, 0, nil
	}
	low = high
	for i, first := range append([]int64{1}, starts...) {
		last := high
		if i < len(starts) {
			last = starts[i] - 1
		}
		from, end := first, last+1
		if !q.Since.IsZero() {
			if from, err = db.firstFrom(ctx, first, last, q.Since.Add(-moments)); err != nil {
				return 0, 0, err
			}
		}
		if !q.Until.IsZero() {
			if end, err = db.firstFrom(ctx, first, last, q.Until.Add(moments)); err != nil {
				return 0, 0, err
			}
		}
		if from < end {
			low, to = min(low, from-1), max(to, end-1)
		}
	}
	return to, low, nil
}

// firstFrom is a place from which on all records of a stretch are as late as a time, but for
// moments; last + 1 where none is.
func (db *DB) firstFrom(ctx context.Context, first, last int64, at time.Time) (int64, error) {
	for last >= first {
		middle := first + (last-first)/2
		var there struct {
			Seq int64 `db:"seq"`
			At  int64 `db:"at"`
		}
		err := db.read.GetContext(ctx, &there, "SELECT seq, at FROM audit_record WHERE seq >= ? AND seq <= ? ORDER BY seq LIMIT 1", middle, last)
		switch {
		case errors.Is(err, sql.ErrNoRows): // archived
			last = middle - 1
		case err != nil:
			return 0, err
		case there.At >= at.UnixMicro():
			last = middle - 1
		default:
			first = there.Seq + 1
		}
	}
	return first, nil
}
