package records

import (
	"context"
	"time"

	"urbankeep/internal/keep"
)

type passkeyRow struct {
	ID         string `db:"id"`
	OperatorID int64  `db:"operator_id"`
	Label      string `db:"label"`
	Host       string `db:"host"`
	Credential string `db:"credential"`
	Created    int64  `db:"created"`
	LastUsed   int64  `db:"last_used"`
}

func passkeysOf(rows []passkeyRow) []keep.Passkey {
	found := make([]keep.Passkey, len(rows))
	for i, r := range rows {
		found[i] = keep.Passkey{ID: r.ID, Label: r.Label, Host: r.Host, Credential: []byte(r.Credential), Created: fromMicros(r.Created), LastUsed: fromMicros(r.LastUsed)}
	}
	return found
}

// Passkeys reads those of an operator, the oldest first.
func (db *DB) Passkeys(ctx context.Context, operator int64) ([]keep.Passkey, error) {
	var rows []passkeyRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM passkey WHERE operator_id = ? ORDER BY created, id", operator)
	return passkeysOf(rows), err
}

// OperatorByID reads one operator.
func (db *DB) OperatorByID(ctx context.Context, id int64) (*keep.Operator, error) {
	var row operatorRow
	err := db.read.GetContext(ctx, &row, "SELECT * FROM operator WHERE id = ?", id)
	return row.operator(), one(err)
}

// AddPasskey writes a new one.
func (db *DB) AddPasskey(ctx context.Context, operator int64, p keep.Passkey) error {
	_, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO passkey (id, operator_id, label, host, credential, created, last_used)
		VALUES (:id, :operator_id, :label, :host, :credential, :created, :last_used)`,
		passkeyRow{p.ID, operator, p.Label, p.Host, string(p.Credential), micros(p.Created), micros(p.LastUsed)})
	return err
}

// NotePasskey notes that one was used, and how it is now; [ErrNotFound] when it is not there any more.
func (db *DB) NotePasskey(ctx context.Context, id string, credential []byte, at time.Time) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE passkey SET credential = ?, last_used = ? WHERE id = ?", string(credential), micros(at), id))
}

// DropPasskeys removes those of an operator, or one of them; [ErrNotFound] when there is none.
func (db *DB) DropPasskeys(ctx context.Context, operator int64, id string) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM passkey WHERE operator_id = ? AND (? = '' OR id = ?)", operator, id, id))
}

// AccountPasskeys reads those of an account, the oldest first.
func (db *DB) AccountPasskeys(ctx context.Context, account int64) ([]keep.Passkey, error) {
	var rows []passkeyRow
	err := db.read.SelectContext(ctx, &rows, "SELECT id, account_id AS operator_id, label, host, credential, created, last_used FROM account_passkey WHERE account_id = ? ORDER BY created, id", account)
	return passkeysOf(rows), err
}

// AddAccountPasskey writes a new one.
func (db *DB) AddAccountPasskey(ctx context.Context, account int64, p keep.Passkey) error {
	_, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO account_passkey (id, account_id, label, host, credential, created, last_used)
		VALUES (:id, :operator_id, :label, :host, :credential, :created, :last_used)`,
		passkeyRow{p.ID, account, p.Label, p.Host, string(p.Credential), micros(p.Created), micros(p.LastUsed)})
	return err
}

// NoteAccountPasskey notes that one was used, and how it is now; [ErrNotFound] when it is not there any more.
func (db *DB) NoteAccountPasskey(ctx context.Context, id string, credential []byte, at time.Time) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE account_passkey SET credential = ?, last_used = ? WHERE id = ?", string(credential), micros(at), id))
}

// DropAccountPasskeys removes those of an account, or one of them; [ErrNotFound] when there is none.
func (db *DB) DropAccountPasskeys(ctx context.Context, account int64, id string) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM account_passkey WHERE account_id = ? AND (? = '' OR id = ?)", account, id, id))
}

// AccountName is the name of an account by its number.
func (db *DB) AccountName(ctx context.Context, id int64) (name string, err error) {
	err = one(db.read.GetContext(ctx, &name, "SELECT name FROM account WHERE id = ?", id))
	return name, err
}
