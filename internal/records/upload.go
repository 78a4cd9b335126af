package records

import (
	"context"
	"time"

	"urbankeep/internal/keep"
)

// uploadRow is an upload as it is written.
type uploadRow struct {
	ID       string `db:"id"`
	Account  *int64 `db:"account_id"`
	Path     string `db:"path"`
	Size     int64  `db:"size"`
	Replaces bool   `db:"replaces"`
	Hold     bool   `db:"hold"`
	Hash     string `db:"hash"`
	State    []byte `db:"state"`
	Hashed   int64  `db:"hashed"`
	Store    string `db:"store"`
	Folder   string `db:"folder"`
	Once     bool   `db:"once"`
	Done     bool   `db:"done"`
	Created  int64  `db:"created"`
	Touched  int64  `db:"touched"`
	Pass     string `db:"pass_id"`
	Ending   bool   `db:"ending"`
	About    string `db:"about"`
}

func (r uploadRow) upload() keep.PartialUpload {
	u := keep.PartialUpload{ID: r.ID, Pass: r.Pass, Path: r.Path, Size: r.Size, Replaces: r.Replaces, Hold: r.Hold, Hash: r.Hash, State: r.State, Hashed: r.Hashed,
		Store: r.Store, Folder: r.Folder, Once: r.Once, Ending: r.Ending, Done: r.Done, About: r.About, Created: fromMicros(r.Created), Touched: fromMicros(r.Touched)}
	if r.Account != nil {
		u.Account = *r.Account
	}
	return u
}

// Uploads reads the unfinished uploads of an account, those with one pass or those of its holder, the newest first.
func (db *DB) Uploads(ctx context.Context, account int64, pass string) ([]keep.PartialUpload, error) {
	return db.uploads(ctx, "account_id = ? AND pass_id = ? AND NOT done AND NOT once ORDER BY created DESC, id", account, pass)
}

// LeftUploads reads the uploads whose time is over, and those of accounts that are gone; and those that can't go on
// since the service has begun anew.
func (db *DB) LeftUploads(ctx context.Context, now, begun time.Time) ([]keep.PartialUpload, error) {
	return db.uploads(ctx, "touched < ? OR account_id IS NULL OR (once AND created < ?) OR (done AND touched < ?)", micros(now.Add(-keep.UploadLife)), micros(begun), micros(now.Add(-keep.DoneLife)))
}

func (db *DB) uploads(ctx context.Context, where string, args ...any) ([]keep.PartialUpload, error) {
	var rows []uploadRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM upload WHERE "+where, args...)
	found := make([]keep.PartialUpload, len(rows))
	for i, r := range rows {
		found[i] = r.upload()
	}
	return found, err
}

// Upload reads one of those of [DB.Uploads]; [ErrNotFound] when there is none of that number.
func (db *DB) Upload(ctx context.Context, account int64, pass, id string) (keep.PartialUpload, error) {
	var row uploadRow
	err := db.read.GetContext(ctx, &row, "SELECT * FROM upload WHERE id = ? AND account_id = ? AND pass_id = ?", id, account, pass)
	return row.upload(), one(err)
}

// UploadOf reads one by its number, whoever began it; [ErrNotFound] when there is none.
func (db *DB) UploadOf(ctx context.Context, id string) (keep.PartialUpload, error) {
	var row uploadRow
	err := db.read.GetContext(ctx, &row, "SELECT * FROM upload WHERE id = ?", id)
	return row.upload(), one(err)
}

// CountUploads counts those of [DB.Uploads].
func (db *DB) CountUploads(ctx context.Context, account int64, pass string) (n int, err error) {
	err = db.read.GetContext(ctx, &n, "SELECT count(*) FROM upload WHERE account_id = ? AND pass_id = ? AND NOT once AND NOT done", account, pass)
	return n, err
}

// SaveUpload writes an upload, new or changed.
func (db *DB) SaveUpload(ctx context.Context, u keep.PartialUpload) error {
	db.hanging.Store(true)
	_, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO upload (id, account_id, path, size, replaces, hold, hash, state, hashed, store, folder, once, done, created, touched, pass_id, ending, about)
		VALUES (:id, :account_id, :path, :size, :replaces, :hold, :hash, :state, :hashed, :store, :folder, :once, :done, :created, :touched, :pass_id, :ending, :about)
		ON CONFLICT (id) DO UPDATE SET path = excluded.path, replaces = excluded.replaces, hold = excluded.hold, hash = excluded.hash, state = excluded.state,
			hashed = excluded.hashed, done = excluded.done, ending = excluded.ending, touched = excluded.touched`,
		uploadRow{u.ID, &u.Account, u.Path, u.Size, u.Replaces, u.Hold, u.Hash, u.State, u.Hashed, u.Store, u.Folder, u.Once, u.Done, micros(u.Created), micros(u.Touched), u.Pass, u.Ending, u.About})
	return err
}

// DropUpload forgets one.
func (db *DB) DropUpload(ctx context.Context, id string) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM upload WHERE id = ?", id)
	return err
}
