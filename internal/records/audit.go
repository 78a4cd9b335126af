package records

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
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
	Facts     string `db:"facts"`
}

func (r auditRow) record() ChainedRecord {
	facts, ok := keep.ReadFacts(r.Facts)
	if !ok {
		facts = keep.Facts{Holder: r.Facts} // no trail wrote that: it is shown, and its digest is another
	}
	return ChainedRecord{keep.AuditRecord{Seq: r.Seq, At: time.UnixMicro(r.At).UTC(), Account: r.Account, Operator: r.Operator, Address: r.Address,
		Protocol: keep.Protocol(r.Protocol), Encrypted: r.Encrypted, Session: r.Session, Action: keep.Action(r.Action), Path: r.Path,
		Target: r.Target, Offset: r.Offset, Bytes: r.Bytes, Duration: time.Duration(r.Duration) * time.Microsecond,
		Outcome: keep.Outcome(r.Outcome), Reason: keep.Reason(r.Reason), Detail: r.Detail, Facts: facts}, r.Prev, r.Digest}
}

// auditStatements are prepared once: they run for every record.
type auditStatements struct{ insert, insertMany, signedIn, keyUsed, shelfUsed *sqlx.Stmt }

// many is how many records one statement inserts where that many are there: a third less
// work for each than one by one.
const many = 32

const insertAudit = `INSERT INTO audit_record (seq, at, account, operator, address, protocol, encrypted, session, action,
	path, target, "offset", bytes, duration, outcome, reason, detail, prev, digest, facts) VALUES `

const auditPlaces = "(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"

func (db *DB) prepareAudit(ctx context.Context) (err error) {
	for _, p := range []struct {
		into **sqlx.Stmt
		text string
	}{
		{&db.audit.insert, insertAudit + auditPlaces},
		{&db.audit.insertMany, insertAudit + auditPlaces + strings.Repeat(","+auditPlaces, many-1)},
		{&db.audit.signedIn, "UPDATE account SET last_sign_in = max(last_sign_in, ?) WHERE name = ?"},
		{&db.audit.keyUsed, "UPDATE account_key SET last_used = max(last_used, ?) WHERE fingerprint = ? AND account_id = (SELECT id FROM account WHERE name = ?)"},
		{&db.audit.shelfUsed, "UPDATE shelf_use SET last_used = max(last_used, ?) WHERE shelf_id = (SELECT id FROM shelf_key WHERE fingerprint = ?) AND account_id = (SELECT id FROM account WHERE name = ?)"},
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
	var latest int64
	err := db.change(ctx, func(tx *sqlx.Tx) (err error) {
		if latest, err = db.noteTurns(ctx, tx, batch); err != nil {
			return err
		}
		for i := range batch {
			if err := db.noteSignIn(ctx, tx, &batch[i]); err != nil {
				return err
			}
		}
		for insert, n := tx.StmtxContext(ctx, db.audit.insertMany), many; len(batch) > 0; batch = batch[n:] {
			if n == many && len(batch) < many {
				insert, n = tx.StmtxContext(ctx, db.audit.insert), 1
			}
			if _, err := insert.ExecContext(ctx, auditValues(batch[:n])...); err != nil {
				return err
			}
		}
		return nil
	})
	if db.turns.known = err == nil; err == nil {
		db.turns.latest = latest
	}
	return err
}

func auditValues(batch []ChainedRecord) []any {
	values := make([]any, 0, 20*len(batch))
	for i := range batch {
		r := &batch[i]
		values = append(values, r.Seq, r.At.UnixMicro(), r.Account, r.Operator, r.Address, string(r.Protocol), r.Encrypted, r.Session,
			string(r.Action), r.Path, r.Target, r.Offset, r.Bytes, r.Duration.Microseconds(), string(r.Outcome), string(r.Reason), r.Detail,
			r.Prev, r.Digest, r.Facts.Text())
	}
	return values
}

func (db *DB) noteSignIn(ctx context.Context, tx *sqlx.Tx, r *ChainedRecord) error {
	if r.Action != keep.SignIn || r.Outcome != keep.Done {
		return nil
	}
	if _, err := tx.StmtxContext(ctx, db.audit.signedIn).ExecContext(ctx, micros(r.At), r.Account); err != nil || r.Target == "" {
		return err
	}
	for _, note := range []*sqlx.Stmt{db.audit.keyUsed, db.audit.shelfUsed} {
		if err := changed(tx.StmtxContext(ctx, note).ExecContext(ctx, micros(r.At), r.Target, r.Account)); !errors.Is(err, ErrNotFound) {
			return err
		}
	}
	return nil
}

// LastAudit reads the newest record, [ErrNotFound] when the trail is empty.
func (db *DB) LastAudit(ctx context.Context) (ChainedRecord, error) {
	var row auditRow
	err := db.read.GetContext(ctx, &row, "SELECT * FROM audit_record ORDER BY seq DESC LIMIT 1")
	return row.record(), one(err)
}

// LatestAudit is the latest time that a record has, which need not be the newest record's.
func (db *DB) LatestAudit(ctx context.Context) (time.Time, error) {
	var at int64
	err := db.read.GetContext(ctx, &at, "SELECT coalesce(max(at), 0) FROM audit_record")
	return fromMicros(at), err
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
	Networks  keep.Networks
	Protocol  string
	Session   string
	Actions   []keep.Action
	Outcome   string
	Reason    string
	PathBelow string // this path and everything below it
	PathHas   string // anywhere in the path or its other end, in any case
	Text      string // anywhere in a record, in any case
	Since     time.Time
	Until     time.Time
	Before    int64 // only records before this place: the cursor
	Limit     int
}

// Matches reports whether a record is one that the query asks for; it looks at
// neither cursor nor limit.
func (q *AuditQuery) Matches(r *keep.AuditRecord) bool {
	for _, exact := range []struct{ want, is string }{
		{q.Account, r.Account}, {q.Operator, r.Operator}, {q.Address, r.Address}, {q.Protocol, string(r.Protocol)}, {q.Session, r.Session},
		{q.Outcome, string(r.Outcome)}, {q.Reason, string(r.Reason)},
	} {
		if exact.want != "" && exact.want != exact.is {
			return false
		}
	}
	switch {
	case len(q.Actions) > 0 && !slices.Contains(q.Actions, r.Action),
		q.PathBelow != "" && !keep.Covers(path.Clean(q.PathBelow), r.Path),
		!q.Since.IsZero() && r.At.Before(q.Since), !q.Until.IsZero() && !r.At.Before(q.Until),
		len(q.Networks) > 0 && !q.Networks.Has(r.Address),
		q.PathHas != "" && !has(q.PathHas, r.Path, r.Target),
		q.Text != "" && !has(q.Text, r.Account, r.Operator, r.Address, r.Session, string(r.Action), r.Path, r.Target, string(r.Reason), r.Detail, r.Facts.Text()):
		return false
	}
	return true
}

// has reports whether one of the texts holds a part, in any case.
func has(part string, texts ...string) bool {
	part = strings.ToLower(part)
	return slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(strings.ToLower(text), part) })
}

// where is the part of the query that indexes help with.
func (q *AuditQuery) where() (clauses []string, args []any, err error) {
	clauses = []string{"1"}
	add := func(clause string, values ...any) {
		clauses, args = append(clauses, clause), append(args, values...)
	}
	// The first that is given leads, by its index; the unary plus keeps the others from it.
	plus := ""
	for _, exact := range []struct{ column, value string }{
		{"session", q.Session}, {"account", q.Account}, {"address", q.Address}, {"operator", q.Operator}, {"outcome", q.Outcome}, {"protocol", q.Protocol}, {"reason", q.Reason},
	} {
		if exact.value == "" {
			continue
		}
		if exact.column == "outcome" && q.table() != "audit_record" {
			plus = ""
		}
		add(plus+exact.column+" = ?", exact.value)
		plus = "+"
	}
	if q.Operator != "" {
		add("operator <> ''") // so that its index is used
	}
	if q.Outcome != "" && q.Outcome != string(keep.Done) {
		add("outcome <> 'done'")
	}
	if len(q.Actions) > 0 {
		clause, values, err := sqlx.In(plus+"action IN (?)", q.Actions)
		if err != nil {
			return nil, nil, err
		}
		add(clause, values...)
	}
	if !q.Since.IsZero() {
		add("at >= ?", q.Since.UnixMicro())
	}
	if !q.Until.IsZero() {
		add("at < ?", q.Until.UnixMicro())
	}
	return clauses, args, nil
}

// slow reports whether an index may not lead straight to what is sought, so that many
// records may have to be looked at for few.
func (q *AuditQuery) slow() bool {
	exact := len(q.Actions)
	for _, value := range []string{q.Account, q.Operator, q.Address, q.Session, q.Outcome} {
		if value != "" {
			exact++
		}
	}
	if q.table() != "audit_record" {
		exact-- // there is an index for both
	}
	return exact > 1 || q.PathBelow != "" || q.PathHas != "" || q.Text != "" || len(q.Networks) > 0 || q.Protocol != "" || q.Reason != ""
}

// table is where a query reads, with the index that is made for what an account did
// that went wrong.
func (q *AuditQuery) table() string {
	if q.Account != "" && q.Session == "" && q.Outcome != "" && q.Outcome != string(keep.Done) {
		return "audit_record INDEXED BY audit_record_account_outcome"
	}
	return "audit_record"
}

const (
	// stretch is how many places of the trail are looked through at once where no
	// index helps.
	stretch = 20_000
	// patience bounds one page of such a search: what it has not come to is for the
	// next page.
	patience = 60 * time.Millisecond
)

// SearchAudit reads a page of the records that a query asks for, newest first. next
// is the cursor of the page after it, 0 at the end; a page of a long search may have
// fewer records than asked for, even none, and go on.
func (db *DB) SearchAudit(ctx context.Context, q AuditQuery) (found []keep.AuditRecord, next int64, err error) {
	clauses, args, err := q.where()
	if err != nil {
		return nil, 0, err
	}
	high, low, err := db.auditBounds(ctx, &q)
	if err != nil {
		return nil, 0, err
	}
	found = []keep.AuditRecord{}
	started := time.Now()
	reach := int64(4*q.Limit + 100) // places looked through at once; it grows where little is found
	for high > low {
		floor, most := low, q.Limit-len(found)+1
		if q.slow() {
			reach = min(reach, stretch)
			floor, most = max(low, high-reach), int(reach)
			reach *= 4
		}
		var rows []auditRow
		err := db.read.SelectContext(ctx, &rows, "SELECT * FROM "+q.table()+" WHERE seq > ? AND seq <= ? AND "+strings.Join(clauses, " AND ")+" ORDER BY seq DESC LIMIT ?",
			append(append([]any{floor, high}, args...), most)...)
		if err != nil {
			return nil, 0, err
		}
		for _, row := range rows {
			r := row.record().AuditRecord
			if !q.Matches(&r) {
				continue
			}
			if len(found) == q.Limit {
				return found, found[len(found)-1].Seq, nil
			}
			found = append(found, r)
		}
		if high = floor; len(rows) == most && !q.slow() {
			high = rows[len(rows)-1].Seq - 1
		}
		if high > low && time.Since(started) > patience {
			return found, high + 1, nil
		}
	}
	return found, 0, nil
}

const (
	// mostCounted bounds a count where an index helps, countPatience where none does.
	mostCounted   = 1_000_000
	countPatience = time.Second
)

// CountAudit counts the records that a query asks for; more tells that there are more
// than it counted in the time it takes.
func (db *DB) CountAudit(ctx context.Context, q AuditQuery) (count int64, more bool, err error) {
	if q.slow() {
		q.Limit = stretch
		for started := time.Now(); ; {
			found, next, err := db.SearchAudit(ctx, q)
			if count += int64(len(found)); err != nil || next == 0 {
				return count, false, err
			}
			if q.Before = next; time.Since(started) > countPatience {
				return count, true, nil
			}
		}
	}
	clauses, args, err := q.where()
	if err != nil {
		return 0, false, err
	}
	high, low, err := db.auditBounds(ctx, &q)
	if err != nil {
		return 0, false, err
	}
	err = db.read.GetContext(ctx, &count, "SELECT count(*) FROM (SELECT 1 FROM "+q.table()+" WHERE seq > ? AND seq <= ? AND "+strings.Join(clauses, " AND ")+" LIMIT ?)",
		append(append([]any{low, high}, args...), mostCounted)...)
	return count, count == mostCounted, err
}

// auditBounds are the places between which a query's times lie: above low, up to high.
func (db *DB) auditBounds(ctx context.Context, q *AuditQuery) (high, low int64, err error) {
	if err = db.read.GetContext(ctx, &high, "SELECT coalesce(max(seq), 0) FROM audit_record"); err != nil {
		return 0, 0, err
	}
	if q.Before > 0 {
		high = min(high, q.Before-1)
	}
	if q.Since.IsZero() && q.Until.IsZero() {
		return high, 0, nil
	}
	return db.timeBounds(ctx, q, high)
}

// Tally is how often something stands in the trail.
type Tally struct {
	Values      []string // of the columns that were asked for
	Count       int64
	Bytes       int64
	First, Last time.Time
}

// tallied are the columns by which the trail may be added up.
var tallied = []string{"account", "operator", "address", "protocol", "encrypted", "action", "outcome", "reason", "session"}

// mostTallies bounds the lines of one tally.
const mostTallies = 5000

// TallyAudit adds up the records that a query asks for by some columns, the most
// frequent first. Of the query it takes what stands in columns, and times.
func (db *DB) TallyAudit(ctx context.Context, q AuditQuery, by ...string) ([]Tally, error) {
	for _, column := range by {
		if !slices.Contains(tallied, column) {
			return nil, fmt.Errorf("the trail can't be added up by %s", column)
		}
	}
	clauses, args, err := q.where()
	if err != nil {
		return nil, err
	}
	high, low, err := db.auditBounds(ctx, &q)
	if err != nil {
		return nil, err
	}
	rows, err := db.read.QueryxContext(ctx, "SELECT "+strings.Join(by, ", ")+", count(*), sum(bytes), min(at), max(at) FROM audit_record WHERE seq > ? AND seq <= ? AND "+strings.Join(clauses, " AND ")+
		" GROUP BY "+strings.Join(by, ", ")+" ORDER BY count(*) DESC, "+strings.Join(by, ", ")+" LIMIT ?", append(append([]any{low, high}, args...), mostTallies)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var found []Tally
	for rows.Next() {
		t := Tally{Values: make([]string, len(by))}
		var first, last int64
		into := make([]any, 0, len(by)+4)
		for i := range by {
			into = append(into, &t.Values[i])
		}
		if err := rows.Scan(append(into, &t.Count, &t.Bytes, &first, &last)...); err != nil {
			return nil, err
		}
		t.First, t.Last = fromMicros(first), fromMicros(last)
		found = append(found, t)
	}
	return found, rows.Err()
}
