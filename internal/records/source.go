package records

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

// Sources reads the sources besides the service's own records, by name.
func (db *DB) Sources(ctx context.Context) ([]keep.Source, error) {
	var rows []struct {
		Definition string `db:"definition"`
		Secret     string `db:"secret"`
	}
	err := db.read.SelectContext(ctx, &rows, "SELECT definition, secret FROM source ORDER BY name")
	found := make([]keep.Source, len(rows))
	for i, row := range rows {
		if err == nil {
			err = json.Unmarshal([]byte(row.Definition), &found[i])
		}
		found[i].Secret = keep.Secret(row.Secret)
	}
	return found, err
}

// SaveSource writes a source.
func (db *DB) SaveSource(ctx context.Context, s keep.Source) error {
	definition, err := json.Marshal(s)
	if err != nil {
		return err
	}
	_, err = db.to(ctx).ExecContext(ctx, `INSERT INTO source (name, definition, secret) VALUES (?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET definition = excluded.definition, secret = excluded.secret`, s.Name, string(definition), s.Secret.Reveal())
	return err
}

// DropSource forgets a source.
func (db *DB) DropSource(ctx context.Context, name string) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM source WHERE name = ?", name))
}

// Routes reads which sources are asked, in order.
func (db *DB) Routes(ctx context.Context) ([]keep.Route, error) {
	var rows []struct {
		Pattern string             `db:"pattern"`
		Sources document[[]string] `db:"sources"`
	}
	err := db.read.SelectContext(ctx, &rows, "SELECT pattern, sources FROM route ORDER BY place")
	found := make([]keep.Route, len(rows))
	for i, row := range rows {
		found[i] = keep.Route{Pattern: row.Pattern, Sources: row.Sources.it}
	}
	return found, err
}

// SaveRoutes puts routes in the place of those that are there.
func (db *DB) SaveRoutes(ctx context.Context, routes []keep.Route) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM route"); err != nil {
			return err
		}
		for i, r := range routes {
			if _, err := tx.ExecContext(ctx, "INSERT INTO route (place, pattern, sources) VALUES (?, ?, ?)", i+1, r.Pattern, document[[]string]{r.Sources}); err != nil {
				return err
			}
		}
		return nil
	})
}

// AccountsFrom counts the accounts that come from a source.
func (db *DB) AccountsFrom(ctx context.Context, source string) (n int, err error) {
	return n, db.read.GetContext(ctx, &n, "SELECT count(*) FROM account WHERE source = ?", source)
}

// Vouched is what a source said of somebody last.
type Vouched struct {
	Source string
	Hash   keep.Secret // of the password that was right; "": none was
	At     time.Time   // when that was
	Seen   time.Time   // when it said that they may sign in
}

// LastVouched reads it; [ErrNotFound] when there is nothing.
func (db *DB) LastVouched(ctx context.Context, account int64) (Vouched, error) {
	var row struct {
		Source string `db:"source"`
		Hash   string `db:"hash"`
		At     int64  `db:"at"`
		Seen   int64  `db:"seen"`
	}
	err := db.read.GetContext(ctx, &row, "SELECT source, hash, at, seen FROM vouched WHERE account = ?", account)
	return Vouched{row.Source, keep.Secret(row.Hash), fromMicros(row.At), fromMicros(row.Seen)}, one(err)
}

// SaveVouched keeps it.
func (db *DB) SaveVouched(ctx context.Context, account int64, v Vouched) error {
	_, err := db.to(ctx).ExecContext(ctx, `INSERT INTO vouched (account, source, hash, at, seen) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (account) DO UPDATE SET source = excluded.source, hash = excluded.hash, at = excluded.at, seen = excluded.seen`, account, v.Source, v.Hash.Reveal(), micros(v.At), micros(v.Seen))
	return err
}

// DropVouchedOf forgets it of an account.
func (db *DB) DropVouchedOf(ctx context.Context, account int64) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM vouched WHERE account = ?", account)
	return err
}

// DropVouched forgets it of all that come from a source.
func (db *DB) DropVouched(ctx context.Context, source string) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM vouched WHERE source = ?", source)
	return err
}

// Leavers are the accounts that were suspended because their source knew them no more.
func (db *DB) Leavers(ctx context.Context) (map[int64]bool, error) {
	var ids []int64
	err := db.read.SelectContext(ctx, &ids, "SELECT account FROM leaver")
	found := map[int64]bool{}
	for _, id := range ids {
		found[id] = true
	}
	return found, err
}

// NoteLeavers adds some to them and takes others away.
func (db *DB) NoteLeavers(ctx context.Context, left, back []int64) error {
	for _, id := range left {
		if _, err := db.to(ctx).ExecContext(ctx, "INSERT INTO leaver (account) VALUES (?) ON CONFLICT DO NOTHING", id); err != nil {
			return err
		}
	}
	for _, id := range back {
		if _, err := db.to(ctx).ExecContext(ctx, "DELETE FROM leaver WHERE account = ?", id); err != nil {
			return err
		}
	}
	return nil
}
