package records

import (
	"context"

	"urbankeep/internal/keep"
)

type shelfRow struct {
	keyRow
	Name     string `db:"name"`
	Owner    string `db:"owner"`
	Note     string `db:"note"`
	Replaced int64  `db:"replaced"`
}

// ShelfKeys reads the keys on the shelf, by name, with the accounts that they are attached to.
func (db *DB) ShelfKeys(ctx context.Context) ([]keep.ShelfKey, error) {
	var rows []shelfRow
	err := db.read.SelectContext(ctx, &rows, `SELECT k.*, coalesce((SELECT max(last_used) FROM shelf_use WHERE shelf_id = k.id), 0) AS last_used FROM shelf_key k ORDER BY name`)
	if err != nil {
		return nil, err
	}
	var uses []struct {
		Shelf   int64  `db:"shelf_id"`
		Account string `db:"name"`
	}
	if err := db.read.SelectContext(ctx, &uses, "SELECT u.shelf_id, a.name FROM shelf_use u JOIN account a ON a.id = u.account_id ORDER BY a.name"); err != nil {
		return nil, err
	}
	attached := map[int64][]string{}
	for _, use := range uses {
		attached[use.Shelf] = append(attached[use.Shelf], use.Account)
	}
	keys := make([]keep.ShelfKey, len(rows))
	for i, r := range rows {
		k, err := r.key()
		if err != nil {
			return nil, err
		}
		keys[i] = keep.ShelfKey{Key: k, Name: r.Name, Owner: r.Owner, Note: r.Note, Replaced: fromMicros(r.Replaced), Accounts: attached[r.ID]}
	}
	return keys, nil
}

// SaveShelfKey writes a key on the shelf, and sets the ID of a new one; [ErrTaken] when its name or its fingerprint is.
func (db *DB) SaveShelfKey(ctx context.Context, k *keep.ShelfKey) error {
	defer db.holders.forget()
	row := shelfRow{keyRow: keyRow{ID: k.ID, Type: k.Type, Bits: k.Bits, Fingerprint: k.Fingerprint, Blob: k.Blob, Authority: k.Authority, Expires: micros(k.Expires), Networks: k.Networks.String(), Added: micros(k.Added)},
		Name: k.Name, Owner: k.Owner, Note: k.Note, Replaced: micros(k.Replaced)}
	if k.ID != 0 {
		return taken(changed(db.to(ctx).NamedExecContext(ctx, `UPDATE shelf_key SET owner = :owner, note = :note, type = :type, bits = :bits, fingerprint = :fingerprint, blob = :blob,
			authority = :authority, expires = :expires, networks = :networks, added = :added, replaced = :replaced WHERE id = :id`, row)))
	}
	result, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO shelf_key (name, owner, note, type, bits, fingerprint, blob, authority, expires, networks, added, replaced)
		VALUES (:name, :owner, :note, :type, :bits, :fingerprint, :blob, :authority, :expires, :networks, :added, :replaced)`, row)
	if err != nil {
		return taken(err)
	}
	k.ID, err = result.LastInsertId()
	return err
}

// DropShelfKey takes a key from the shelf that is attached to no account.
func (db *DB) DropShelfKey(ctx context.Context, id int64) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM shelf_key WHERE id = ? AND NOT EXISTS (SELECT 1 FROM shelf_use WHERE shelf_id = id)", id))
}

// AttachShelfKey attaches a key to an account; [ErrTaken] when it is.
func (db *DB) AttachShelfKey(ctx context.Context, account, shelf int64) error {
	defer db.holders.forget()
	_, err := db.to(ctx).ExecContext(ctx, "INSERT INTO shelf_use (account_id, shelf_id) VALUES (?, ?)", account, shelf)
	return taken(err)
}

// DetachShelfKey takes it away; [ErrNotFound] when it is not attached.
func (db *DB) DetachShelfKey(ctx context.Context, account, shelf int64) error {
	defer db.holders.forget()
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM shelf_use WHERE account_id = ? AND shelf_id = ?", account, shelf))
}

// attachedKeys are the keys that accounts have from the shelf, as keys of theirs: with an ID below zero.
const attachedKeys = `SELECT -s.id AS id, u.account_id, s.name AS label, s.type, s.bits, s.fingerprint, s.blob, s.authority, s.expires, s.networks, s.added, u.last_used, s.name AS shelf
	FROM shelf_use u JOIN shelf_key s ON s.id = u.shelf_id`
