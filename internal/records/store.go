package records

import (
	"context"
	"sync"

	"urbankeep/internal/keep"
)

// stores remembers what there is until one is changed: every sign-in asks.
type stores struct {
	mu    sync.Mutex
	known []keep.Store // nil: to be read
}

// Stores gives all stores, by name. The caller must not change the slice.
func (db *DB) Stores(ctx context.Context) ([]keep.Store, error) {
	db.stores.mu.Lock()
	defer db.stores.mu.Unlock()
	if db.stores.known == nil {
		found := []keep.Store{}
		if err := db.read.SelectContext(ctx, &found, "SELECT name, folder FROM store ORDER BY name"); err != nil {
			return nil, err
		}
		db.stores.known = found
	}
	return db.stores.known, nil
}

// SaveStore writes a store, new or changed.
func (db *DB) SaveStore(ctx context.Context, s keep.Store) error {
	db.stores.mu.Lock()
	defer db.stores.mu.Unlock()
	db.stores.known = nil
	_, err := db.write.ExecContext(ctx, `INSERT INTO store (name, folder) VALUES (?, ?)
		ON CONFLICT (name) DO UPDATE SET folder = excluded.folder`, s.Name, s.Folder)
	return err
}

// DeleteStore removes a store that no mount uses. The files stay.
func (db *DB) DeleteStore(ctx context.Context, name string) error {
	db.stores.mu.Lock()
	defer db.stores.mu.Unlock()
	db.stores.known = nil
	return changed(db.write.ExecContext(ctx, "DELETE FROM store WHERE name = ?", name))
}
