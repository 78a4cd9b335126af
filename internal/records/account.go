package records

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"urbankeep/internal/keep"
)

type accountRow struct {
	ID           int64                   `db:"id"`
	Name         string                  `db:"name"`
	Note         string                  `db:"note"`
	Mail         string                  `db:"mail"`
	State        keep.State              `db:"state"`
	Source       string                  `db:"source"`
	SourceID     string                  `db:"source_id"`
	PasswordHash string                  `db:"password_hash"`
	MustChange   bool                    `db:"must_change"`
	Furnished    bool                    `db:"furnished"`
	Groups       document[[]string]      `db:"groups"`
	Settings     document[keep.Settings] `db:"settings"`
	Mounts       document[[]keep.Mount]  `db:"mounts"`
	Grants       document[[]keep.Grant]  `db:"grants"`
	Created      int64                   `db:"created"`
	Changed      int64                   `db:"changed"`
	LastSignIn   int64                   `db:"last_sign_in"`
}

// document is a column that holds a value as JSON.
type document[T any] struct{ it T }

// Value implements [driver.Valuer].
func (d document[T]) Value() (driver.Value, error) {
	text, err := json.Marshal(d.it)
	if string(text) == "null" {
		text = []byte("[]")
	}
	return string(text), err
}

// Scan implements [sql.Scanner].
func (d *document[T]) Scan(from any) error {
	text, ok := from.(string)
	if !ok {
		return fmt.Errorf("a document is %T, not text", from)
	}
	return json.Unmarshal([]byte(text), &d.it)
}

func (r accountRow) account() *keep.Account {
	return &keep.Account{ID: r.ID, Name: r.Name, Note: r.Note, Mail: r.Mail, State: r.State, Source: r.Source, SourceID: r.SourceID, PasswordHash: keep.Secret(r.PasswordHash), MustChange: r.MustChange,
		Furnished: r.Furnished, Groups: r.Groups.it, Settings: r.Settings.it, Mounts: r.Mounts.it, Grants: r.Grants.it,
		Created: fromMicros(r.Created), Changed: fromMicros(r.Changed), LastSignIn: fromMicros(r.LastSignIn)}
}

func rowOf(a *keep.Account) accountRow {
	return accountRow{ID: a.ID, Name: a.Name, Note: a.Note, Mail: a.Mail, State: a.State, Source: a.Source, SourceID: a.SourceID, PasswordHash: a.PasswordHash.Reveal(), MustChange: a.MustChange,
		Furnished: a.Furnished, Groups: document[[]string]{a.Groups}, Settings: document[keep.Settings]{a.Settings}, Mounts: document[[]keep.Mount]{a.Mounts}, Grants: document[[]keep.Grant]{a.Grants},
		Created: micros(a.Created), Changed: micros(a.Changed), LastSignIn: micros(a.LastSignIn)}
}

// Account reads one account, in any case of its name.
func (db *DB) Account(ctx context.Context, name string) (*keep.Account, error) {
	var row accountRow
	if err := db.read.GetContext(ctx, &row, "SELECT * FROM account WHERE name = ?", name); err != nil {
		return nil, one(err)
	}
	return row.account(), nil
}

// AccountQuery says which accounts are wanted; zero values: any.
type AccountQuery struct {
	Text  string   // a part of the name, the note, the mail address or the name of a group
	Group string   // they are in it
	Sets  []string // they set one of these settings themselves
}

// where is the query as a condition with its arguments.
func (q AccountQuery) where() (string, []any) {
	condition, args := "TRUE", []any{}
	if q.Text != "" {
		like := "%" + escaped(q.Text) + "%"
		condition += ` AND (name LIKE ? ESCAPE '\' OR note LIKE ? ESCAPE '\' OR mail LIKE ? ESCAPE '\' OR groups LIKE ? ESCAPE '\')`
		args = append(args, like, like, like, like)
	}
	if q.Group != "" {
		condition += " AND id IN (SELECT account_id FROM member WHERE group_name = ?)"
		args = append(args, q.Group)
	}
	if len(q.Sets) > 0 {
		var each []string
		for _, name := range q.Sets {
			each, args = append(each, "json_extract(settings, ?) IS NOT NULL"), append(args, "$."+name)
		}
		condition += " AND (" + strings.Join(each, " OR ") + ")"
	}
	return condition, args
}

// Accounts reads up to limit accounts (below 0: all) whose names come after the given one, by name.
func (db *DB) Accounts(ctx context.Context, q AccountQuery, after string, limit int) ([]*keep.Account, error) {
	var rows []accountRow
	condition, args := q.where()
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM account WHERE name > ? AND "+condition+" ORDER BY name LIMIT ?", append(append([]any{after}, args...), limit)...)
	if err != nil {
		return nil, err
	}
	found := make([]*keep.Account, len(rows))
	for i, row := range rows {
		found[i] = row.account()
	}
	return found, nil
}

// CountAccounts is how many accounts there are of those that are asked for.
func (db *DB) CountAccounts(ctx context.Context, q AccountQuery) (n int, err error) {
	condition, args := q.where()
	return n, db.read.GetContext(ctx, &n, "SELECT count(*) FROM account WHERE "+condition, args...)
}

// AllAccounts reads every account, by name.
func (db *DB) AllAccounts(ctx context.Context) ([]*keep.Account, error) {
	return db.Accounts(ctx, AccountQuery{}, "", -1)
}

// AddAccount writes a new account and sets its ID; [ErrTaken] when the name is.
func (db *DB) AddAccount(ctx context.Context, a *keep.Account) error {
	return db.WriteAccounts(ctx, []*keep.Account{a}, nil)
}

// WriteAccounts writes new and changed accounts, all or none.
func (db *DB) WriteAccounts(ctx context.Context, add, save []*keep.Account) error {
	defer db.holders.forget()
	return taken(db.change(ctx, func(tx *sqlx.Tx) error {
		for _, a := range add {
			result, err := tx.NamedExecContext(ctx, `INSERT INTO account (name, note, mail, state, source, source_id, password_hash, must_change, furnished, groups, settings, mounts, grants, created, changed)
				VALUES (:name, :note, :mail, :state, :source, :source_id, :password_hash, :must_change, :furnished, :groups, :settings, :mounts, :grants, :created, :changed)`, rowOf(a))
			if err != nil {
				return err
			}
			if a.ID, err = result.LastInsertId(); err != nil {
				return err
			}
		}
		for _, a := range save {
			var was accountRow
			if err := tx.GetContext(ctx, &was, "SELECT * FROM account WHERE id = ?", a.ID); err != nil {
				return err
			}
			for _, change := range keep.ChangesOf(was.account(), a) {
				if err := endShown(ctx, tx, a.ID, change); err != nil {
					return err
				}
			}
			err := changed(tx.NamedExecContext(ctx, `UPDATE account SET note = :note, mail = :mail, state = :state, source = :source, source_id = :source_id, password_hash = :password_hash, must_change = :must_change,
				groups = :groups, settings = :settings, mounts = :mounts, grants = :grants, changed = :changed WHERE id = :id`, rowOf(a)))
			if err != nil {
				return err
			}
		}
		return nil
	}))
}

// SaveAccount writes a changed account whole; its name and creation stay.
func (db *DB) SaveAccount(ctx context.Context, a *keep.Account) error {
	return db.WriteAccounts(ctx, nil, []*keep.Account{a})
}

// SetPassword writes a password that its account chose itself.
func (db *DB) SetPassword(ctx context.Context, id int64, hash keep.Secret) error {
	defer db.holders.forget()
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE account SET password_hash = ?, must_change = 0 WHERE id = ?", hash.Reveal(), id))
}

// RenewHash puts another hash of the same password in the place of one.
func (db *DB) RenewHash(ctx context.Context, id int64, old, now keep.Secret) error {
	defer db.holders.forget()
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE account SET password_hash = ? WHERE id = ? AND password_hash = ?", now.Reveal(), id, old.Reveal()))
}

// Furnished notes that an account's starter folders were made.
func (db *DB) Furnished(ctx context.Context, id int64) error {
	defer db.holders.forget()
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE account SET furnished = 1 WHERE id = ?", id))
}

// DeleteAccount removes an account with its keys. The files stay.
func (db *DB) DeleteAccount(ctx context.Context, id int64) error {
	defer db.holders.forget()
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM account WHERE id = ?", id))
}

// taken turns a broken uniqueness rule into [ErrTaken].
func taken(err error) error {
	var broken *sqlite.Error
	if errors.As(err, &broken) && (broken.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE || broken.Code() == sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY) {
		return ErrTaken
	}
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}
