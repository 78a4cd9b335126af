package records

import (
	"context"
	"time"

	"urbankeep/internal/keep"
)

// binnedRow is something in a bin as it is written.
type binnedRow struct {
	ID      string `db:"id"`
	Account *int64 `db:"account_id"`
	Path    string `db:"path"`
	Folder  bool   `db:"is_folder"`
	Size    int64  `db:"size"`
	Store   string `db:"store"`
	In      string `db:"lies_in"`
	Was     string `db:"was_in"`
	Deleted int64  `db:"deleted"`
	Until   int64  `db:"until"`
}

func (r binnedRow) binned() keep.Binned {
	b := keep.Binned{ID: r.ID, Path: r.Path, Folder: r.Folder, Size: r.Size, Store: r.Store, In: r.In, Was: r.Was, Deleted: fromMicros(r.Deleted), Until: fromMicros(r.Until)}
	if r.Account != nil {
		b.Account = *r.Account
	}
	return b
}

// Bin reads what lies in the bin of an account, what was deleted last first.
func (db *DB) Bin(ctx context.Context, account int64) ([]keep.Binned, error) {
	return db.binned(ctx, "account_id = ? ORDER BY deleted DESC, id", account)
}

// LeftBinned reads what has lain in a bin for its time, and what is in those of accounts that are gone.
func (db *DB) LeftBinned(ctx context.Context, now time.Time) ([]keep.Binned, error) {
	return db.binned(ctx, "until < ? OR account_id IS NULL", micros(now))
}

func (db *DB) binned(ctx context.Context, where string, args ...any) ([]keep.Binned, error) {
	var rows []binnedRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM binned WHERE "+where, args...)
	found := make([]keep.Binned, len(rows))
	for i, r := range rows {
		found[i] = r.binned()
	}
	return found, err
}

// Binned reads one thing in the bin of an account; [ErrNotFound] when it is not there.
func (db *DB) Binned(ctx context.Context, account int64, id string) (keep.Binned, error) {
	var row binnedRow
	err := db.read.GetContext(ctx, &row, "SELECT * FROM binned WHERE id = ? AND account_id = ?", id, account)
	return row.binned(), one(err)
}

// CountBinned counts what is in the bin of an account.
func (db *DB) CountBinned(ctx context.Context, account int64) (n int, err error) {
	err = db.read.GetContext(ctx, &n, "SELECT count(*) FROM binned WHERE account_id = ?", account)
	return n, err
}

// AddBinned writes that something goes into a bin.
func (db *DB) AddBinned(ctx context.Context, b keep.Binned) error {
	db.hanging.Store(true)
	_, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO binned (id, account_id, path, is_folder, size, store, lies_in, was_in, deleted, until)
		VALUES (:id, :account_id, :path, :is_folder, :size, :store, :lies_in, :was_in, :deleted, :until)`,
		binnedRow{b.ID, &b.Account, b.Path, b.Folder, b.Size, b.Store, b.In, b.Was, micros(b.Deleted), micros(b.Until)})
	return err
}

// DropBinned writes that something is in no bin any more.
func (db *DB) DropBinned(ctx context.Context, id string) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM binned WHERE id = ?", id)
	return err
}
