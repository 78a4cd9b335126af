package records

import (
	"context"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

// ChainedRecord is an audit record with its place in the chain: the digest of
// the record before, and its own (SHA-256, 32 bytes each).
type ChainedRecord struct {
	keep.AuditRecord
	Prev   []byte
	Digest []byte
}

type auditRow struct {
	Seq       int64  `db:"seq"`
	At        int64  `db:"at"`
	Account   string `db:"account"`
	Operator  string `db:"operator"`
	Address   string `db:"address"`
	Protocol  string `db:"protocol"`
	Encrypted bool   `db:"encrypted"`
	Session   string `db:"session"`
	Action    string `db:"action"`
	Path      string `db:"path"`
	Target    string `db:"target"`
	Offset    int64  `db:"offset"`
	Bytes     int64  `db:"bytes"`
	Duration  int64  `db:"duration"`
	Outcome   string `db:"outcome"`
	Reason    string `db:"reason"`
	Detail    string `db:"detail"`
	Prev      []byte `db:"prev"`
	Digest    []byte `db:"digest"`
}

func (r auditRow) record() ChainedRecord {
	return ChainedRecord{keep.AuditRecord{Seq: r.Seq, At: time.UnixMicro(r.At).UTC(), Account: r.Account, Operator: r.Operator, Address: r.Address,
		Protocol: keep.Protocol(r.Protocol), Encrypted: r.Encrypted, Session: r.Session, Action: keep.Action(r.Action), Path: r.Path,
		Target: r.Target, Offset: r.Offset, Bytes: r.Bytes, Duration: time.Duration(r.Duration) * time.Microsecond,
		Outcome: keep.Outcome(r.Outcome), Reason: keep.Reason(r.Reason), Detail: r.Detail}, r.Prev, r.Digest}
}

// AppendAudit writes records at the end of the trail, all or none.
func (db *DB) AppendAudit(ctx context.Context, batch []ChainedRecord) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		insert, err := tx.PreparexContext(ctx, `INSERT INTO audit_record (seq, at, account, operator, address, protocol, encrypted, session, action,
			path, target, "offset", bytes, duration, outcome, reason, detail, prev, digest) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`)
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, r := range batch {
			_, err := insert.ExecContext(ctx, r.Seq, r.At.UnixMicro(), r.Account, r.Operator, r.Address, string(r.Protocol), r.Encrypted, r.Session,
				string(r.Action), r.Path, r.Target, r.Offset, r.Bytes, r.Duration.Microseconds(), string(r.Outcome), string(r.Reason), r.Detail,
				r.Prev, r.Digest)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// LastAudit reads the newest record, [ErrNotFound] when the trail is empty.
func (db *DB) LastAudit(ctx context.Context) (ChainedRecord, error) {
	var row auditRow
	err := db.read.GetContext(ctx, &row, "SELECT * FROM audit_record ORDER BY seq DESC LIMIT 1")
	return row.record(), one(err)
}

// AuditAfter reads up to limit records that follow a place in the trail, oldest first.
func (db *DB) AuditAfter(ctx context.Context, seq int64, limit int) ([]ChainedRecord, error) {
	var rows []auditRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM audit_record WHERE seq > ? ORDER BY seq LIMIT ?", seq, limit)
	found := make([]ChainedRecord, len(rows))
	for i, row := range rows {
		found[i] = row.record()
	}
	return found, err
}

// AuditQuery narrows a search of the trail. Zero fields don't narrow.
type AuditQuery struct {
	Account   string
	Operator  string
	Address   string
	Protocol  string
	Session   string
	Actions   []keep.Action
	Outcome   string
	PathBelow string // this path and everything below it
	Since     time.Time
	Until     time.Time
	Before    int64 // only records before this place: the cursor
	Limit     int
}

// SearchAudit reads the records that a query asks for, newest first.
func (db *DB) SearchAudit(ctx context.Context, q AuditQuery) ([]keep.AuditRecord, error) {
	where, args := []string{"1"}, []any{}
	add := func(clause string, values ...any) {
		where, args = append(where, clause), append(args, values...)
	}
	for _, exact := range []struct{ column, value string }{
		{"account", q.Account}, {"operator", q.Operator}, {"address", q.Address}, {"protocol", q.Protocol}, {"session", q.Session}, {"outcome", q.Outcome},
	} {
		if exact.value != "" {
			add(exact.column+" = ?", exact.value)
		}
	}
	if len(q.Actions) > 0 {
		clause, values, err := sqlx.In("action IN (?)", q.Actions)
		if err != nil {
			return nil, err
		}
		add(clause, values...)
	}
	if below := strings.TrimSuffix(q.PathBelow, "/"); below != "" {
		add("(path = ? OR (path >= ? AND path < ?))", below, below+"/", below+"0") // '0' follows '/'
	}
	if !q.Since.IsZero() {
		add("at >= ?", q.Since.UnixMicro())
	}
	if !q.Until.IsZero() {
		add("at < ?", q.Until.UnixMicro())
	}
	if q.Before > 0 {
		add("seq < ?", q.Before)
	}
	var rows []auditRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM audit_record WHERE "+strings.Join(where, " AND ")+" ORDER BY seq DESC LIMIT ?",
		append(args, q.Limit)...)
	found := make([]keep.AuditRecord, len(rows))
	for i, row := range rows {
		found[i] = row.record().AuditRecord
	}
	return found, err
}
