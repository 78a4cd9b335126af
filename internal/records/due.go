package records

import (
	"context"
	"encoding/json"
	"time"

	"urbankeep/internal/keep"
)

// Due is an audit record that was written down together with the change that it tells of,
// and is still to be put into the trail.
type Due struct {
	ID     int64
	Record keep.AuditRecord
}

// AddDue writes a record down that is to come into the trail; its time is now where it has none.
func (db *DB) AddDue(ctx context.Context, r keep.AuditRecord) (id int64, err error) {
	if r.At.IsZero() {
		r.At = time.Now().UTC().Truncate(time.Microsecond)
	}
	text, err := json.Marshal(r)
	if err != nil {
		return 0, err
	}
	result, err := db.to(ctx).ExecContext(ctx, "INSERT INTO audit_due (record) VALUES (?)", string(text))
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
}

// DropDue forgets a record that has come into the trail.
func (db *DB) DropDue(ctx context.Context, id int64) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM audit_due WHERE id = ?", id))
}

// DueRecords gives what is still to come into the trail, oldest first.
func (db *DB) DueRecords(ctx context.Context) ([]Due, error) {
	var rows []struct {
		ID     int64  `db:"id"`
		Record string `db:"record"`
	}
	if err := db.read.SelectContext(ctx, &rows, "SELECT id, record FROM audit_due ORDER BY id"); err != nil {
		return nil, err
	}
	found := make([]Due, len(rows))
	for i, row := range rows {
		found[i].ID = row.ID
		if err := json.Unmarshal([]byte(row.Record), &found[i].Record); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// InTrail reports whether the trail has a record of what was done at that very moment.
func (db *DB) InTrail(ctx context.Context, r *keep.AuditRecord) (bool, error) {
	var there int
	err := db.read.GetContext(ctx, &there, "SELECT count(*) FROM audit_record WHERE at = ? AND action = ? AND operator = ? AND account = ? AND target = ?",
		r.At.UnixMicro(), string(r.Action), r.Operator, r.Account, r.Target)
	return there > 0, err
}
