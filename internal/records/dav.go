package records

import (
	"context"
	"path"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

type lockRow struct {
	Token   string `db:"token"`
	Account string `db:"account"`
	Store   string `db:"store"`
	Path    string `db:"path"`
	Deep    bool   `db:"deep"`
	Shared  bool   `db:"shared"`
	Owner   string `db:"owner"`
	Created int64  `db:"created"`
	Expires int64  `db:"expires"`
}

func (r lockRow) lock() keep.Lock {
	return keep.Lock{Token: r.Token, Account: r.Account, Store: r.Store, Path: r.Path, Deep: r.Deep, Shared: r.Shared, Owner: r.Owner, Created: fromMicros(r.Created), Expires: fromMicros(r.Expires)}
}

// lockColumns are those of locks, and of whose they are.
const lockColumns = "SELECT token, account.name AS account, store, path, deep, shared, owner, dav_lock.created, expires FROM dav_lock JOIN account ON account.id = account_id WHERE "

// below matches a path of a store and what lies below it; its arguments are those of [belowArgs].
const below = "(? = '.' OR path = ? OR path > ? AND path < ?)"

func belowArgs(at string) []any { return []any{at, at, at + "/", at + "0"} } // "0" follows "/"

// waysTo are a path of a store and the folders that lead to it.
func waysTo(at string) []string {
	ways := []string{at}
	for at != "." {
		at = path.Dir(at)
		ways = append(ways, at)
	}
	return ways
}

// LocksOver reads the live locks on a path of a store, and those on the folders that lead to it.
func (db *DB) LocksOver(ctx context.Context, store, at string, now time.Time) ([]keep.Lock, error) {
	query, args, err := sqlx.In(lockColumns+"store = ? AND expires > ? AND path IN (?) ORDER BY dav_lock.created", store, micros(now), waysTo(at))
	if err != nil {
		return nil, err
	}
	return db.locks(ctx, query, args)
}

// LocksBelow reads the live locks on what lies below a path of a store.
func (db *DB) LocksBelow(ctx context.Context, store, at string, now time.Time) ([]keep.Lock, error) {
	return db.locks(ctx, lockColumns+"store = ? AND expires > ? AND path <> ? AND "+below+" ORDER BY dav_lock.created", append([]any{store, micros(now), at}, belowArgs(at)...))
}

// Locks reads all live locks, those of one account or of all.
func (db *DB) Locks(ctx context.Context, account string, now time.Time) ([]keep.Lock, error) {
	return db.locks(ctx, lockColumns+"expires > ? AND (? = '' OR account.name = ?) ORDER BY dav_lock.created", []any{micros(now), account, account})
}

func (db *DB) locks(ctx context.Context, query string, args []any) ([]keep.Lock, error) {
	var rows []lockRow
	err := db.read.SelectContext(ctx, &rows, query, args...)
	found := make([]keep.Lock, len(rows))
	for i, r := range rows {
		found[i] = r.lock()
	}
	return found, err
}

// AddLock writes a lock, and forgets those whose time is over.
func (db *DB) AddLock(ctx context.Context, l keep.Lock) error {
	if _, err := db.to(ctx).ExecContext(ctx, "DELETE FROM dav_lock WHERE expires <= ?", micros(l.Created)); err != nil {
		return err
	}
	db.hanging.Store(true)
	_, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO dav_lock (token, account_id, store, path, deep, shared, owner, created, expires)
		VALUES (:token, (SELECT id FROM account WHERE name = :account), :store, :path, :deep, :shared, :owner, :created, :expires)`,
		lockRow{l.Token, l.Account, l.Store, l.Path, l.Deep, l.Shared, l.Owner, micros(l.Created), micros(l.Expires)})
	return err
}

// RefreshLock gives a lock another end; [ErrNotFound] when there is none.
func (db *DB) RefreshLock(ctx context.Context, token string, expires time.Time) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE dav_lock SET expires = ? WHERE token = ?", micros(expires), token))
}

// DropLock ends a lock; [ErrNotFound] when there is none.
func (db *DB) DropLock(ctx context.Context, token string) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM dav_lock WHERE token = ?", token))
}

type propertyRow struct {
	Store   string `db:"store"`
	Path    string `db:"path"`
	Space   string `db:"space"`
	Name    string `db:"name"`
	Value   string `db:"value"`
	Parent  string `db:"parent"`
	Account *int64 `db:"account_id"`
}

// Properties reads the dead properties of a path of a store, and of what is right in it.
func (db *DB) Properties(ctx context.Context, store, at string, inside bool) (map[string][]keep.Property, error) {
	var rows []propertyRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM dav_property WHERE store = ? AND (path = ? OR ? AND parent = ?) ORDER BY path, space, name", store, at, inside, at)
	found := map[string][]keep.Property{}
	for _, r := range rows {
		found[r.Path] = append(found[r.Path], keep.Property{Space: r.Space, Name: r.Name, Value: r.Value})
	}
	return found, err
}

// CountProperties counts those that an account set.
func (db *DB) CountProperties(ctx context.Context, account int64) (n int, err error) {
	err = db.read.GetContext(ctx, &n, "SELECT count(*) FROM dav_property WHERE account_id = ?", account)
	return n, err
}

// SetProperties writes and removes dead properties of a path, all or none.
func (db *DB) SetProperties(ctx context.Context, account int64, store, at string, set, remove []keep.Property) error {
	db.hanging.Store(true)
	return db.Together(ctx, func(ctx context.Context) error {
		for _, p := range remove {
			if _, err := db.to(ctx).ExecContext(ctx, "DELETE FROM dav_property WHERE store = ? AND path = ? AND space = ? AND name = ?", store, at, p.Space, p.Name); err != nil {
				return err
			}
		}
		for _, p := range set {
			if _, err := db.to(ctx).ExecContext(ctx, "INSERT OR REPLACE INTO dav_property (store, path, space, name, value, parent, account_id) VALUES (?, ?, ?, ?, ?, ?, ?)",
				store, at, p.Space, p.Name, p.Value, path.Dir(at), account); err != nil {
				return err
			}
		}
		return nil
	})
}

// CopyProperties gives a path, and what lies below it, the dead properties of another of which it is a copy, instead of those
// that it had.
func (db *DB) CopyProperties(ctx context.Context, account int64, from, to keep.Spot) error {
	var rows []propertyRow
	if err := db.read.SelectContext(ctx, &rows, "SELECT * FROM dav_property WHERE store = ? AND "+below, append([]any{from.Store}, belowArgs(from.Path)...)...); err != nil {
		return err
	}
	return db.Together(ctx, func(ctx context.Context) error {
		if _, err := db.to(ctx).ExecContext(ctx, "DELETE FROM dav_property WHERE store = ? AND "+below, append([]any{to.Store}, belowArgs(to.Path)...)...); err != nil {
			return err
		}
		for _, r := range rows {
			moved := keep.Spot{Store: from.Store, Path: r.Path}.Moved(from, to)
			if _, err := db.to(ctx).ExecContext(ctx, "INSERT INTO dav_property (store, path, space, name, value, parent, account_id) VALUES (?, ?, ?, ?, ?, ?, ?)",
				to.Store, moved.Path, r.Space, r.Name, r.Value, path.Dir(moved.Path), account); err != nil {
				return err
			}
		}
		return nil
	})
}
