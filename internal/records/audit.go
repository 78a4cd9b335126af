package records

import (
	"context"
	"fmt"
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

// auditStatements are prepared once: they run for every record.
type auditStatements struct{ insert, signedIn, keyUsed *sqlx.Stmt }

func (db *DB) prepareAudit(ctx context.Context) (err error) {
	for _, p := range []struct {
		into **sqlx.Stmt
		text string
	}{
		{&db.audit.insert, `INSERT INTO audit_record (seq, at, account, operator, address, protocol, encrypted, session, action,
			path, target, "offset", bytes, duration, outcome, reason, detail, prev, digest) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`},
		{&db.audit.signedIn, "UPDATE account SET last_sign_in = max(last_sign_in, ?) WHERE name = ?"},
		{&db.audit.keyUsed, "UPDATE account_key SET last_used = max(last_used, ?) WHERE fingerprint = ? AND account_id = (SELECT id FROM account WHERE name = ?)"},
	} {
		if *p.into, err = db.write.PreparexContext(ctx, p.text); err != nil {
			return fmt.Errorf("open the records: %w", err)
		}
	}
	return nil
}

// AppendAudit writes records at the end of the trail, all or none. When an
// account last signed in, and with which key, follows from them.
func (db *DB) AppendAudit(ctx context.Context, batch []ChainedRecord) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		insert := tx.StmtxContext(ctx, db.audit.insert)
		for _, r := range batch {
			if err := db.noteSignIn(ctx, tx, &r); err != nil {
				return err
			}
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

func (db *DB) noteSignIn(ctx context.Context, tx *sqlx.Tx, r *ChainedRecord) error {
	if r.Action != keep.SignIn || r.Outcome != keep.Done {
		return nil
	}
	if _, err := tx.StmtxContext(ctx, db.audit.signedIn).ExecContext(ctx, micros(r.At), r.Account); err != nil || r.Target == "" {
		return err
	}
	_, err := tx.StmtxContext(ctx, db.audit.keyUsed).ExecContext(ctx, micros(r.At), r.Target, r.Account)
	return err
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
