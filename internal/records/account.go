package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"urbankeep/internal/keep"
)

type accountRow struct {
	ID           int64  `db:"id"`
	Name         string `db:"name"`
	Note         string `db:"note"`
	State        string `db:"state"`
	PasswordHash string `db:"password_hash"`
	SignInBy     string `db:"sign_in_by"`
	AllowPlain   bool   `db:"allow_plain"`
	ValidFrom    int64  `db:"valid_from"`
	ValidUntil   int64  `db:"valid_until"`
	MaxSessions  int    `db:"max_sessions"`
	MaxUpload    int64  `db:"max_upload"`
	Created      int64  `db:"created"`
	Changed      int64  `db:"changed"`
	LastSignIn   int64  `db:"last_sign_in"`
}

func (r accountRow) account() *keep.Account {
	return &keep.Account{ID: r.ID, Name: r.Name, Note: r.Note, State: keep.State(r.State),
		PasswordHash: keep.Secret(r.PasswordHash), SignInBy: keep.Proofs(r.SignInBy), AllowPlain: r.AllowPlain,
		ValidFrom: fromMicros(r.ValidFrom), ValidUntil: fromMicros(r.ValidUntil), MaxSessions: r.MaxSessions, MaxUpload: r.MaxUpload,
		Created: fromMicros(r.Created), Changed: fromMicros(r.Changed), LastSignIn: fromMicros(r.LastSignIn)}
}

func rowOf(a *keep.Account) accountRow {
	return accountRow{ID: a.ID, Name: a.Name, Note: a.Note, State: string(a.State),
		PasswordHash: a.PasswordHash.Reveal(), SignInBy: string(a.SignInBy), AllowPlain: a.AllowPlain,
		ValidFrom: micros(a.ValidFrom), ValidUntil: micros(a.ValidUntil), MaxSessions: a.MaxSessions, MaxUpload: a.MaxUpload,
		Created: micros(a.Created), Changed: micros(a.Changed), LastSignIn: micros(a.LastSignIn)}
}

// Account reads one account with its mounts and grants, in any case of its name.
func (db *DB) Account(ctx context.Context, name string) (*keep.Account, error) {
	var row accountRow
	if err := db.read.GetContext(ctx, &row, "SELECT * FROM account WHERE name = ?", name); err != nil {
		return nil, one(err)
	}
	found := []*keep.Account{row.account()}
	return found[0], db.readTrees(ctx, found)
}

// Accounts reads up to limit accounts whose names come after the given one, by name.
func (db *DB) Accounts(ctx context.Context, after string, limit int) ([]*keep.Account, error) {
	var rows []accountRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM account WHERE name > ? ORDER BY name LIMIT ?", after, limit)
	if err != nil {
		return nil, err
	}
	found := make([]*keep.Account, len(rows))
	for i, row := range rows {
		found[i] = row.account()
	}
	return found, db.readTrees(ctx, found)
}

// readTrees fills in the mounts and grants of accounts.
func (db *DB) readTrees(ctx context.Context, accounts []*keep.Account) error {
	if len(accounts) == 0 {
		return nil
	}
	byID := map[int64]*keep.Account{}
	var ids []int64
	for _, a := range accounts {
		byID[a.ID] = a
		ids = append(ids, a.ID)
	}
	var mounts []struct {
		AccountID int64  `db:"account_id"`
		At        string `db:"at"`
		Store     string `db:"store"`
		Folder    string `db:"folder"`
		ReadOnly  bool   `db:"read_only"`
	}
	query, args, err := sqlx.In("SELECT * FROM account_mount WHERE account_id IN (?) ORDER BY at", ids)
	if err != nil {
		return err
	}
	if err := db.read.SelectContext(ctx, &mounts, query, args...); err != nil {
		return err
	}
	for _, m := range mounts {
		a := byID[m.AccountID]
		a.Mounts = append(a.Mounts, keep.Mount{At: m.At, Store: m.Store, Folder: m.Folder, ReadOnly: m.ReadOnly})
	}
	var grants []struct {
		AccountID int64  `db:"account_id"`
		Path      string `db:"path"`
		Rights    string `db:"rights"`
	}
	if query, args, err = sqlx.In("SELECT * FROM account_grant WHERE account_id IN (?) ORDER BY path", ids); err != nil {
		return err
	}
	if err := db.read.SelectContext(ctx, &grants, query, args...); err != nil {
		return err
	}
	for _, g := range grants {
		rights, err := keep.ParseRights(g.Rights)
		if err != nil {
			return fmt.Errorf("read the grants of %s: %w", byID[g.AccountID].Name, err)
		}
		a := byID[g.AccountID]
		a.Grants = append(a.Grants, keep.Grant{Path: g.Path, Rights: rights})
	}
	return nil
}

// AddAccount writes a new account and sets its ID; [ErrTaken] when the name is.
func (db *DB) AddAccount(ctx context.Context, a *keep.Account) error {
	defer db.holders.forget()
	return taken(db.change(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.NamedExecContext(ctx, `INSERT INTO account (name, note, state, password_hash, sign_in_by, allow_plain, valid_from, valid_until, max_sessions, max_upload, created, changed)
			VALUES (:name, :note, :state, :password_hash, :sign_in_by, :allow_plain, :valid_from, :valid_until, :max_sessions, :max_upload, :created, :changed)`, rowOf(a))
		if err != nil {
			return err
		}
		if a.ID, err = result.LastInsertId(); err != nil {
			return err
		}
		return writeTree(ctx, tx, a)
	}))
}

// SaveAccount writes a changed account whole; its name and creation stay.
func (db *DB) SaveAccount(ctx context.Context, a *keep.Account) error {
	defer db.holders.forget()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		err := changed(tx.NamedExecContext(ctx, `UPDATE account SET note = :note, state = :state, password_hash = :password_hash,
			sign_in_by = :sign_in_by, allow_plain = :allow_plain,
			valid_from = :valid_from, valid_until = :valid_until, max_sessions = :max_sessions, max_upload = :max_upload, changed = :changed WHERE id = :id`, rowOf(a)))
		if err != nil {
			return err
		}
		for _, table := range []string{"account_mount", "account_grant"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE account_id = ?", a.ID); err != nil {
				return err
			}
		}
		return writeTree(ctx, tx, a)
	})
}

func writeTree(ctx context.Context, tx *sqlx.Tx, a *keep.Account) error {
	for _, m := range a.Mounts {
		_, err := tx.ExecContext(ctx, "INSERT INTO account_mount (account_id, at, store, folder, read_only) VALUES (?, ?, ?, ?, ?)",
			a.ID, m.At, m.Store, m.Folder, m.ReadOnly)
		if err != nil {
			return err
		}
	}
	for _, g := range a.Grants {
		_, err := tx.ExecContext(ctx, "INSERT INTO account_grant (account_id, path, rights) VALUES (?, ?, ?)", a.ID, g.Path, g.Rights.String())
		if err != nil {
			return err
		}
	}
	return nil
}

// DeleteAccount removes an account with its mounts, grants and keys. The files stay.
func (db *DB) DeleteAccount(ctx context.Context, id int64) error {
	defer db.holders.forget()
	return changed(db.write.ExecContext(ctx, "DELETE FROM account WHERE id = ?", id))
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
