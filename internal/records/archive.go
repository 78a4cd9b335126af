package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

// AuditArchive is a file that records of the trail were sealed into.
type AuditArchive struct {
	Name        string
	Made        time.Time
	Records     int64
	First, Last int64
	SHA256      []byte // of the file
	Gaps        []byte // digest of the gaps that it leaves
	Signed      []byte
}

// AuditGap is a run of records that are in an archive: from First to Last.
type AuditGap struct {
	First   int64  `db:"first"`
	Last    int64  `db:"last"`
	Prev    []byte `db:"prev"`   // digest of the record before the first
	Digest  []byte `db:"digest"` // of the last
	Archive string `db:"archive"`
}

// AddArchive notes that records are in a file: from now on they may go.
func (db *DB) AddArchive(ctx context.Context, a AuditArchive, gaps []AuditGap) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO audit_archive VALUES (?,?,?,?,?,?,?,?,0)", a.Name, a.Made.UnixMicro(), a.Records, a.First, a.Last, a.SHA256, a.Gaps, a.Signed); err != nil {
			return err
		}
		for _, g := range gaps {
			if _, err := tx.ExecContext(ctx, "INSERT INTO audit_gap VALUES (?,?,?,?,?)", g.First, g.Last, g.Prev, g.Digest, a.Name); err != nil {
				return err
			}
		}
		return nil
	})
}

// Archives gives all archives, oldest first.
func (db *DB) Archives(ctx context.Context) ([]AuditArchive, error) {
	var rows []struct {
		Name    string `db:"name"`
		Made    int64  `db:"made"`
		Records int64  `db:"records"`
		First   int64  `db:"first"`
		Last    int64  `db:"last"`
		SHA256  []byte `db:"sha256"`
		Gaps    []byte `db:"gaps"`
		Signed  []byte `db:"signed"`
		Removed bool   `db:"removed"`
	}
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM audit_archive ORDER BY made, name")
	found := make([]AuditArchive, len(rows))
	for i, r := range rows {
		found[i] = AuditArchive{r.Name, fromMicros(r.Made), r.Records, r.First, r.Last, r.SHA256, r.Gaps, r.Signed}
	}
	return found, err
}

// AuditGaps gives all gaps of the trail, in its order.
func (db *DB) AuditGaps(ctx context.Context) (gaps []AuditGap, err error) {
	return gaps, db.read.SelectContext(ctx, &gaps, "SELECT * FROM audit_gap ORDER BY first")
}

// removedAtOnce bounds one transaction, so that nobody waits long for it.
const removedAtOnce = 2000

// RemoveArchived takes out what archives hold and is still there.
func (db *DB) RemoveArchived(ctx context.Context) error {
	var names []string
	if err := db.read.SelectContext(ctx, &names, "SELECT name FROM audit_archive WHERE NOT removed"); err != nil {
		return err
	}
	for _, name := range names {
		var gaps []AuditGap
		if err := db.read.SelectContext(ctx, &gaps, "SELECT * FROM audit_gap WHERE archive = ? ORDER BY first", name); err != nil {
			return err
		}
		for len(gaps) > 0 {
			err := db.change(ctx, func(tx *sqlx.Tx) error {
				for room := int64(removedAtOnce); room > 0 && len(gaps) > 0; {
					g := &gaps[0]
					upTo := min(g.Last, g.First+room-1)
					if _, err := tx.ExecContext(ctx, "DELETE FROM audit_record WHERE seq BETWEEN ? AND ?", g.First, upTo); err != nil {
						return err
					}
					room -= upTo - g.First + 1
					if g.First = upTo + 1; g.First > g.Last {
						gaps = gaps[1:]
					}
				}
				return nil
			})
			if err != nil {
				return err
			}
		}
		if _, err := db.to(ctx).ExecContext(ctx, "UPDATE audit_archive SET removed = 1 WHERE name = ?", name); err != nil {
			return err
		}
	}
	return nil
}

// AuditBefore gives the last record that was written before a time, 0 for none.
func (db *DB) AuditBefore(ctx context.Context, t time.Time) (seq int64, err error) {
	return seq, db.read.GetContext(ctx, &seq, "SELECT coalesce((SELECT seq FROM audit_record WHERE at < ? ORDER BY at DESC, seq DESC LIMIT 1), 0)", t.UnixMicro())
}

// AuditOld reads up to limit records between two places of the trail that a retention
// lets go, oldest first.
func (db *DB) AuditOld(ctx context.Context, keeps *keep.Retention, now time.Time, after, upTo int64, limit int) (found []ChainedRecord, next int64, err error) {
	page, err := db.AuditAfter(ctx, after, limit)
	for i := range page {
		r := &page[i]
		if r.Seq > upTo {
			return found, 0, nil
		}
		if next = r.Seq; keeps.LetsGo(&r.AuditRecord, now) {
			found = append(found, *r)
		}
	}
	return found, next, err
}
