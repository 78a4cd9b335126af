package records

import (
	"context"
	"time"

	"urbankeep/internal/keep"
)

type keyRow struct {
	ID          int64  `db:"id"`
	AccountID   int64  `db:"account_id"`
	Label       string `db:"label"`
	Type        string `db:"type"`
	Bits        int    `db:"bits"`
	Fingerprint string `db:"fingerprint"`
	Blob        []byte `db:"blob"`
	Authority   bool   `db:"authority"`
	Expires     int64  `db:"expires"`
	Networks    string `db:"networks"`
	Added       int64  `db:"added"`
	LastUsed    int64  `db:"last_used"`
	Shelf       string `db:"shelf"`
}

func (r keyRow) key() (keep.Key, error) {
	networks, err := keep.ParseNetworks("networks", r.Networks)
	return keep.Key{ID: r.ID, AccountID: r.AccountID, Label: r.Label, Type: r.Type, Bits: r.Bits, Fingerprint: r.Fingerprint, Blob: r.Blob, Authority: r.Authority, Expires: fromMicros(r.Expires),
		Networks: networks, Added: fromMicros(r.Added), LastUsed: fromMicros(r.LastUsed), Shelf: r.Shelf}, err
}

// Keys reads the keys of an account: its own, oldest first, then those from the shelf.
func (db *DB) Keys(ctx context.Context, accountID int64) ([]keep.Key, error) {
	return db.keys(ctx, "account_id = ?", accountID)
}

// AllKeys reads the keys of all accounts, by the account's ID.
func (db *DB) AllKeys(ctx context.Context) (map[int64][]keep.Key, error) {
	all, err := db.keys(ctx, "account_id > ?", 0)
	found := map[int64][]keep.Key{}
	for _, k := range all {
		found[k.AccountID] = append(found[k.AccountID], k)
	}
	return found, err
}

func (db *DB) keys(ctx context.Context, condition string, id int64) ([]keep.Key, error) {
	var rows, attached []keyRow
	if err := db.read.SelectContext(ctx, &rows, "SELECT *, '' AS shelf FROM account_key WHERE "+condition+" ORDER BY id", id); err != nil {
		return nil, err
	}
	if err := db.read.SelectContext(ctx, &attached, attachedKeys+" WHERE u."+condition+" ORDER BY s.name", id); err != nil {
		return nil, err
	}
	rows = append(rows, attached...)
	keys := make([]keep.Key, len(rows))
	for i, r := range rows {
		var err error
		if keys[i], err = r.key(); err != nil {
			return nil, err
		}
	}
	return keys, nil
}

// KeyHolders names the accounts that hold a key, by name.
func (db *DB) KeyHolders(ctx context.Context, fingerprint string) ([]string, error) {
	names := []string{}
	err := db.read.SelectContext(ctx, &names, `SELECT account.name FROM account_key JOIN account ON account.id = account_id WHERE fingerprint = ?
		UNION SELECT account.name FROM shelf_key JOIN shelf_use ON shelf_id = shelf_key.id JOIN account ON account.id = account_id WHERE fingerprint = ?
		ORDER BY 1`, fingerprint, fingerprint)
	return names, err
}

// AddKey writes a new key and sets its ID; [ErrTaken] when the account has it already.
func (db *DB) AddKey(ctx context.Context, k *keep.Key) error {
	defer db.holders.forget()
	result, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO account_key (account_id, label, type, bits, fingerprint, blob, authority, expires, networks, added)
		VALUES (:account_id, :label, :type, :bits, :fingerprint, :blob, :authority, :expires, :networks, :added)`,
		keyRow{AccountID: k.AccountID, Label: k.Label, Type: k.Type, Bits: k.Bits, Fingerprint: k.Fingerprint, Blob: k.Blob,
			Authority: k.Authority, Expires: micros(k.Expires), Networks: k.Networks.String(), Added: micros(k.Added)})
	if err != nil {
		return taken(err)
	}
	k.ID, err = result.LastInsertId()
	return err
}

// SaveKey writes a key's label and what it may be used for.
func (db *DB) SaveKey(ctx context.Context, k keep.Key) error {
	defer db.holders.forget()
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE account_key SET label = ?, expires = ?, networks = ? WHERE account_id = ? AND id = ?",
		k.Label, micros(k.Expires), k.Networks.String(), k.AccountID, k.ID))
}

// DeleteKey removes a key of an account.
func (db *DB) DeleteKey(ctx context.Context, accountID, keyID int64) error {
	defer db.holders.forget()
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM account_key WHERE account_id = ? AND id = ?", accountID, keyID))
}

// EndingKey is a key with the account that holds it.
type EndingKey struct {
	Account     string    `db:"account"`
	Label       string    `db:"label"`
	Fingerprint string    `db:"fingerprint"`
	Ends        int64     `db:"expires"`
	Expires     time.Time `db:"-"`
}

// EndingKeys reads the keys of active accounts that end between two times.
func (db *DB) EndingKeys(ctx context.Context, from, until time.Time) ([]EndingKey, error) {
	var found []EndingKey
	err := db.read.SelectContext(ctx, &found, `SELECT a.name AS account, k.label, k.fingerprint, k.expires
		FROM (SELECT account_id, label, fingerprint, expires FROM account_key UNION ALL SELECT account_id, label, fingerprint, expires FROM (`+attachedKeys+`)) k JOIN account a ON a.id = k.account_id
		WHERE k.expires > ? AND k.expires < ? AND a.state = ?`, micros(from), micros(until), keep.StateActive)
	for i := range found {
		found[i].Expires = fromMicros(found[i].Ends)
	}
	return found, err
}
