package records

import (
	"context"
	"encoding/json"
	"path/filepath"
	"sync"

	"urbankeep/internal/keep"
)

// stores remembers what there is until one is changed: every sign-in asks.
type stores struct {
	mu    sync.Mutex
	known []keep.Store // nil: to be read
}

// Stores gives all stores, by name. One that lies in the data folder goes where that goes. The caller must not change the slice.
func (db *DB) Stores(ctx context.Context) ([]keep.Store, error) {
	db.stores.mu.Lock()
	defer db.stores.mu.Unlock()
	if db.stores.known == nil {
		found := []keep.Store{}
		if err := db.read.SelectContext(ctx, &found, "SELECT name, kind, folder, mark, durability, hashes, previews, site, secret FROM store ORDER BY name"); err != nil {
			return nil, err
		}
		for i, s := range found {
			if s.Local() && !filepath.IsAbs(s.Folder) {
				found[i].Folder = filepath.Join(db.dir, s.Folder)
			}
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
	if rel, err := filepath.Rel(db.dir, s.Folder); filepath.IsAbs(s.Folder) && err == nil && filepath.IsLocal(rel) {
		s.Folder = rel
	}
	if s.Durability == "" {
		s.Durability = keep.Power
	}
	if s.Kind == "" {
		s.Kind = keep.Disk
	}
	site, err := json.Marshal(s.Site)
	if err != nil {
		return err
	}
	_, err = db.to(ctx).ExecContext(ctx, `INSERT INTO store (name, kind, folder, mark, durability, hashes, previews, site, secret) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET folder = excluded.folder, mark = excluded.mark, durability = excluded.durability, hashes = excluded.hashes, previews = excluded.previews, site = excluded.site, secret = excluded.secret`,
		s.Name, s.Kind, s.Folder, s.Mark, s.Durability, s.Hashes, string(s.Previews), string(site), s.Secret.Reveal())
	return err
}

// DeleteStore removes a store that no mount uses. The files stay.
func (db *DB) DeleteStore(ctx context.Context, name string) error {
	db.stores.mu.Lock()
	defer db.stores.mu.Unlock()
	db.stores.known = nil
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM store WHERE name = ?", name))
}
