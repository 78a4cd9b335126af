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

type listenerRow struct {
	Name        string `db:"name"`
	Protocol    string `db:"protocol"`
	Address     string `db:"address"`
	Encryption  string `db:"encryption"`
	PassiveLow  int    `db:"passive_low"`
	PassiveHigh int    `db:"passive_high"`
	Banner      string `db:"banner"`
}

// Listeners reads all listeners, by name.
func (db *DB) Listeners(ctx context.Context) ([]keep.Listener, error) {
	var rows []listenerRow
	if err := db.read.SelectContext(ctx, &rows, "SELECT * FROM listener ORDER BY name"); err != nil {
		return nil, err
	}
	found := make([]keep.Listener, len(rows))
	for i, r := range rows {
		found[i] = keep.Listener{Name: r.Name, Protocol: keep.Protocol(r.Protocol), Address: r.Address, Encryption: keep.Encryption(r.Encryption),
			PassiveLow: r.PassiveLow, PassiveHigh: r.PassiveHigh, Banner: r.Banner}
	}
	return found, nil
}

// SaveListener writes a listener, new or changed.
func (db *DB) SaveListener(ctx context.Context, l keep.Listener) error {
	_, err := db.write.NamedExecContext(ctx, `INSERT INTO listener (name, protocol, address, encryption, passive_low, passive_high, banner)
		VALUES (:name, :protocol, :address, :encryption, :passive_low, :passive_high, :banner)
		ON CONFLICT (name) DO UPDATE SET protocol = excluded.protocol, address = excluded.address, encryption = excluded.encryption,
		passive_low = excluded.passive_low, passive_high = excluded.passive_high, banner = excluded.banner`,
		listenerRow{l.Name, string(l.Protocol), l.Address, string(l.Encryption), l.PassiveLow, l.PassiveHigh, l.Banner})
	return err
}
