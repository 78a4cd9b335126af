package records

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

// receiverSecrets are what of a receiver is never shown again.
type receiverSecrets struct {
	Signs   string   `json:"signs,omitempty"`
	Headers []string `json:"headers,omitempty"` // in the order of the definition's
}

// Receivers reads who is told, by name.
func (db *DB) Receivers(ctx context.Context) ([]keep.Receiver, error) {
	var rows []struct {
		Definition string `db:"definition"`
		Secrets    string `db:"secrets"`
	}
	err := db.read.SelectContext(ctx, &rows, "SELECT definition, secrets FROM receiver ORDER BY name")
	found := make([]keep.Receiver, len(rows))
	for i, row := range rows {
		var hidden receiverSecrets
		if err == nil {
			err = errors.Join(json.Unmarshal([]byte(row.Definition), &found[i]), json.Unmarshal([]byte(row.Secrets), &hidden))
		}
		found[i].Secret = keep.Secret(hidden.Signs)
		for n := range found[i].Headers {
			if n < len(hidden.Headers) {
				found[i].Headers[n].Value = keep.Secret(hidden.Headers[n])
			}
		}
	}
	return found, err
}

// Receiver finds one by its name; [ErrNotFound] when there is none.
func (db *DB) Receiver(ctx context.Context, name string) (keep.Receiver, error) {
	all, err := db.Receivers(ctx)
	for _, r := range all {
		if r.Name == name {
			return r, err
		}
	}
	return keep.Receiver{}, errors.Join(err, ErrNotFound)
}

// SaveReceiver writes a receiver; a new one is told of what happens after the record with the number from.
func (db *DB) SaveReceiver(ctx context.Context, r keep.Receiver, from int64) error {
	hidden := receiverSecrets{Signs: r.Secret.Reveal()}
	for _, h := range r.Headers {
		hidden.Headers = append(hidden.Headers, h.Value.Reveal())
	}
	definition, err := json.Marshal(r)
	if err != nil {
		return err
	}
	secrets, err := json.Marshal(hidden)
	if err != nil {
		return err
	}
	_, err = db.to(ctx).ExecContext(ctx, `INSERT INTO receiver (name, account, definition, secrets, cursor) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET definition = excluded.definition, secrets = excluded.secrets`, r.Name, r.Account, string(definition), string(secrets), from)
	return err
}

// DropReceiver forgets a receiver and what it was told.
func (db *DB) DropReceiver(ctx context.Context, name string) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM receiver WHERE name = ?", name))
}

// ReceiverCursor is the last record of the trail that a receiver needs no more.
func (db *DB) ReceiverCursor(ctx context.Context, name string) (cursor int64, err error) {
	err = db.read.GetContext(ctx, &cursor, "SELECT cursor FROM receiver WHERE name = ?", name)
	return cursor, one(err)
}

// SkipReceiver lets a receiver begin anew behind a record.
func (db *DB) SkipReceiver(ctx context.Context, name string, cursor int64) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE receiver SET cursor = max(cursor, ?) WHERE name = ?", cursor, name))
}

// Notices reads the notices of operators and of all holders, by name.
func (db *DB) Notices(ctx context.Context) ([]keep.Notice, error) {
	var rows []string
	err := db.read.SelectContext(ctx, &rows, "SELECT definition FROM notice ORDER BY name")
	found := make([]keep.Notice, len(rows))
	for i, row := range rows {
		if err == nil {
			err = json.Unmarshal([]byte(row), &found[i])
		}
	}
	return found, err
}

// SaveNotice writes a notice.
func (db *DB) SaveNotice(ctx context.Context, n keep.Notice, now time.Time) error {
	definition, err := json.Marshal(n)
	if err != nil {
		return err
	}
	_, err = db.to(ctx).ExecContext(ctx, `INSERT INTO notice (name, account, definition, created, due) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET definition = excluded.definition, due = excluded.due`, n.Name, n.Account, string(definition), micros(now), micros(now))
	return err
}

// DropNotice forgets one.
func (db *DB) DropNotice(ctx context.Context, name string) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM notice WHERE name = ?", name))
}

// LookedAt is the newest moment at which it was looked whether the upload that a notice expects has come.
func (db *DB) LookedAt(ctx context.Context, notice string) (time.Time, error) {
	var due int64
	err := db.read.GetContext(ctx, &due, "SELECT due FROM notice WHERE name = ?", notice)
	return fromMicros(due), one(err)
}

// SetLookedAt notes that.
func (db *DB) SetLookedAt(ctx context.Context, notice string, due time.Time) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE notice SET due = ? WHERE name = ?", micros(due), notice))
}

// ToldState is what became of something that a receiver was to be told.
type ToldState string

// The states.
const (
	ToldIt    ToldState = "told"
	ToldAside ToldState = "aside" // it was given up
	ToldAgain ToldState = "again" // and is to be tried once more
)

// Told is something that a receiver was told, or could not be told.
type Told struct {
	ID       int64
	Receiver string
	Seq      int64
	Event    keep.Event
	Notices  []string
	About    string
	Happened time.Time
	At       time.Time // of the last try
	Tries    int
	State    ToldState
	Answer   string
	Record   *keep.AuditRecord // of what was not told; else nil
}

type toldRow struct {
	ID       int64  `db:"id"`
	Receiver string `db:"receiver"`
	Seq      int64  `db:"seq"`
	Event    string `db:"event"`
	Notices  string `db:"notices"`
	About    string `db:"about"`
	Happened int64  `db:"happened"`
	At       int64  `db:"at"`
	Tries    int    `db:"tries"`
	State    string `db:"state"`
	Answer   string `db:"answer"`
	Record   string `db:"record"`
}

// MaxTold bounds what is remembered of each receiver that it was told, the newest. MaxAside bounds what it could not be told.
const (
	MaxTold  = 1000
	MaxAside = 10_000
)

// SaveTold writes what a receiver was told, and how far it has come: all or nothing. What has a number is changed.
func (db *DB) SaveTold(ctx context.Context, receiver string, cursor int64, some []Told) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { // which nothing that is remembered depends on
		ctx := context.WithValue(ctx, together{}, tx)
		if _, err := db.to(ctx).ExecContext(ctx, "UPDATE receiver SET cursor = max(cursor, ?) WHERE name = ?", cursor, receiver); err != nil {
			return err
		}
		insert, err := tx.PrepareNamedContext(ctx, `INSERT INTO told (receiver, seq, event, notices, about, happened, at, tries, state, answer, record)
			SELECT :receiver, :seq, :event, :notices, :about, :happened, :at, :tries, :state, :answer, :record WHERE EXISTS (SELECT 1 FROM receiver WHERE name = :receiver)`)
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, t := range some {
			record := ""
			if t.Record != nil && t.State != ToldIt {
				text, err := json.Marshal(t.Record)
				if err != nil {
					return err
				}
				record = string(text)
			}
			row := toldRow{t.ID, receiver, t.Seq, string(t.Event), strings.Join(t.Notices, " "), t.About, micros(t.Happened), micros(t.At), t.Tries, string(t.State), t.Answer, record}
			if t.ID == 0 {
				_, err = insert.ExecContext(ctx, row)
			} else {
				_, err = tx.NamedExecContext(ctx, "UPDATE told SET at = :at, tries = :tries, state = :state, answer = :answer, record = :record WHERE id = :id", row)
			}
			if err != nil {
				return err
			}
		}
		_, err = db.to(ctx).ExecContext(ctx, "DELETE FROM told WHERE receiver = ? AND state = ? AND id <= (SELECT id FROM told WHERE receiver = ? AND state = ? ORDER BY id DESC LIMIT 1 OFFSET ?)",
			receiver, ToldIt, receiver, ToldIt, MaxTold)
		return err
	})
}

// ToldQuery says what is meant.
type ToldQuery struct {
	Receiver string // "": of all
	Notice   string // "": of all
	State    ToldState
	Before   int64 // only older ones; 0: from the newest
	Limit    int
	Oldest   bool // first
}

// ToldOf reads what receivers were told, the newest first.
func (db *DB) ToldOf(ctx context.Context, q ToldQuery) ([]Told, error) {
	order := "DESC"
	if q.Oldest {
		order = "ASC"
	}
	var rows []toldRow
	err := db.read.SelectContext(ctx, &rows, `SELECT * FROM told WHERE (? = '' OR receiver = ?) AND (? = '' OR instr(' ' || notices || ' ', ' ' || ? || ' ') > 0) AND (? = '' OR state = ?)
		AND (? = 0 OR id < ?) ORDER BY id `+order+` LIMIT ?`, q.Receiver, q.Receiver, q.Notice, q.Notice, q.State, q.State, q.Before, q.Before, q.Limit)
	found := make([]Told, len(rows))
	for i, r := range rows {
		found[i] = Told{r.ID, r.Receiver, r.Seq, keep.Event(r.Event), strings.Fields(r.Notices), r.About, fromMicros(r.Happened), fromMicros(r.At), r.Tries, ToldState(r.State), r.Answer, nil}
		if r.Record != "" && err == nil {
			found[i].Record = new(keep.AuditRecord)
			err = json.Unmarshal([]byte(r.Record), found[i].Record)
		}
	}
	return found, err
}

// CountTold counts what a receiver was told, or could not be told, by state.
func (db *DB) CountTold(ctx context.Context, receiver string, state ToldState) (n int, err error) {
	err = db.read.GetContext(ctx, &n, "SELECT count(*) FROM told WHERE receiver = ? AND state = ?", receiver, state)
	return n, err
}

// TryAgain has what a receiver could not be told tried once more: one thing, or all when id is 0. It says how many.
func (db *DB) TryAgain(ctx context.Context, receiver string, id int64) (int64, error) {
	result, err := db.to(ctx).ExecContext(ctx, "UPDATE told SET state = ? WHERE receiver = ? AND state = ? AND (? = 0 OR id = ?)", ToldAgain, receiver, ToldAside, id, id)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// OpenTrouble is one that is not over.
type OpenTrouble struct {
	Kind  keep.Reason
	Of    string
	Says  string
	Since time.Time
}

// Troubles reads those that are not over, oldest first.
func (db *DB) Troubles(ctx context.Context) ([]OpenTrouble, error) {
	var rows []struct {
		Kind  string `db:"kind"`
		Of    string `db:"of"`
		Says  string `db:"says"`
		Since int64  `db:"since"`
	}
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM trouble ORDER BY since, kind, of")
	found := make([]OpenTrouble, len(rows))
	for i, r := range rows {
		found[i] = OpenTrouble{keep.Reason(r.Kind), r.Of, r.Says, fromMicros(r.Since)}
	}
	return found, err
}

// BeginTrouble notes one.
func (db *DB) BeginTrouble(ctx context.Context, t OpenTrouble) error {
	_, err := db.to(ctx).ExecContext(ctx, "INSERT OR REPLACE INTO trouble (kind, of, says, since) VALUES (?, ?, ?, ?)", t.Kind, t.Of, t.Says, micros(t.Since))
	return err
}

// EndTrouble forgets one.
func (db *DB) EndTrouble(ctx context.Context, kind keep.Reason, of string) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM trouble WHERE kind = ? AND of = ?", kind, of)
	return err
}
