package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Place is what a folder with a quota held when it was last settled.
type Place struct {
	Store   string `db:"store"`
	Folder  string `db:"folder"` // relative to the store, "." for all of it
	Bytes   int64  `db:"bytes"`
	Files   int64  `db:"files"`
	Settled bool   `db:"settled"` // nothing has changed since
	Counted int64  `db:"counted"` // microseconds since 1970; 0: never
}

// PlaceSample is what a place held at a time.
type PlaceSample struct {
	Time  time.Time `db:"-"`
	At    int64     `db:"at"`
	Bytes int64     `db:"bytes"`
	Files int64     `db:"files"`
}

// Places gives every place that was ever settled.
func (db *DB) Places(ctx context.Context) ([]Place, error) {
	found := []Place{}
	return found, db.read.SelectContext(ctx, &found, "SELECT store, folder, bytes, files, settled, counted FROM place")
}

// PlaceAt gives the one at a folder, if it was ever settled.
func (db *DB) PlaceAt(ctx context.Context, store, folder string) ([]Place, error) {
	found := []Place{}
	return found, db.read.SelectContext(ctx, &found, "SELECT store, folder, bytes, files, settled, counted FROM place WHERE store = ? AND folder = ?", store, folder)
}

// UnsettlePlace notes, before it happens, that a place is about to change.
func (db *DB) UnsettlePlace(ctx context.Context, store, folder string) error {
	_, err := db.to(ctx).ExecContext(ctx, "UPDATE place SET settled = 0 WHERE store = ? AND folder = ?", store, folder)
	return err
}

// SettlePlaces writes what places hold now, and keeps a sample of it for every hour.
func (db *DB) SettlePlaces(ctx context.Context, places []Place, now time.Time) error {
	hour := now.Truncate(time.Hour)
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for _, p := range places {
			_, err := tx.NamedExecContext(ctx, `INSERT OR REPLACE INTO place (store, folder, bytes, files, settled, counted)
				VALUES (:store, :folder, :bytes, :files, :settled, :counted)`, p)
			if err != nil {
				return err
			}
			_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO place_history (store, folder, at, bytes, files) VALUES (?, ?, ?, ?, ?)", p.Store, p.Folder, micros(hour), p.Bytes, p.Files)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// PlaceHistory gives the samples of a place since a time, oldest first.
func (db *DB) PlaceHistory(ctx context.Context, store, folder string, since time.Time) ([]PlaceSample, error) {
	found := []PlaceSample{}
	err := db.read.SelectContext(ctx, &found, "SELECT at, bytes, files FROM place_history WHERE store = ? AND folder = ? AND at >= ? ORDER BY at", store, folder, micros(since))
	for i := range found {
		found[i].Time = fromMicros(found[i].At)
	}
	return found, err
}

// AddPlaceSample writes a sample of another time.
func (db *DB) AddPlaceSample(ctx context.Context, store, folder string, s PlaceSample) error {
	_, err := db.to(ctx).ExecContext(ctx, "INSERT OR REPLACE INTO place_history (store, folder, at, bytes, files) VALUES (?, ?, ?, ?, ?)", store, folder, micros(s.Time), s.Bytes, s.Files)
	return err
}
