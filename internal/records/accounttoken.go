package records

import (
	"context"
	"time"

	"urbankeep/internal/keep"
)

type accountTokenRow struct {
	ID       string `db:"id"`
	Account  int64  `db:"account_id"`
	Digest   []byte `db:"digest"`
	Label    string `db:"label"`
	Path     string `db:"path"`
	Rights   int64  `db:"rights"`
	Address  string `db:"address"`
	Created  int64  `db:"created"`
	Expires  int64  `db:"expires"`
	LastUsed int64  `db:"last_used"`
}

func (r accountTokenRow) token() keep.AccountToken {
	return keep.AccountToken{ID: r.ID, Account: r.Account, Digest: r.Digest, Label: r.Label, Scope: keep.Scope{Paths: []string{r.Path}, Rights: keep.Rights(r.Rights)}, Address: r.Address,
		Created: fromMicros(r.Created), Expires: fromMicros(r.Expires), LastUsed: fromMicros(r.LastUsed)}
}

// AccountTokens reads the live tokens of an account, the newest first.
func (db *DB) AccountTokens(ctx context.Context, account int64, now time.Time) ([]keep.AccountToken, error) {
	var rows []accountTokenRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM account_token WHERE account_id = ? AND expires > ? ORDER BY created DESC, id", account, micros(now))
	found := make([]keep.AccountToken, len(rows))
	for i, r := range rows {
		found[i] = r.token()
	}
	return found, err
}

// AccountTokenOf finds a live token by the digest of its secret and the name of its account, and notes that it was used.
func (db *DB) AccountTokenOf(ctx context.Context, digest []byte, now time.Time) (t keep.AccountToken, account string, err error) {
	var row struct {
		accountTokenRow
		Name string `db:"name"`
	}
	err = db.read.GetContext(ctx, &row, "SELECT t.*, a.name FROM account_token t JOIN account a ON a.id = t.account_id WHERE t.digest = ? AND t.expires > ?", digest, micros(now))
	if err != nil {
		return t, "", one(err)
	}
	t = row.token()
	if now.Sub(t.LastUsed) >= usedPace {
		_, err = db.to(ctx).ExecContext(ctx, "UPDATE account_token SET last_used = ? WHERE digest = ?", micros(now), digest)
	}
	return t, row.Name, err
}

// AddAccountToken writes a token, and drops those of its account that have ended.
func (db *DB) AddAccountToken(ctx context.Context, t keep.AccountToken) error {
	if _, err := db.to(ctx).ExecContext(ctx, "DELETE FROM account_token WHERE account_id = ? AND expires <= ?", t.Account, micros(t.Created)); err != nil {
		return err
	}
	_, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO account_token (id, account_id, digest, label, path, rights, address, created, expires, last_used)
		VALUES (:id, :account_id, :digest, :label, :path, :rights, :address, :created, :expires, :last_used)`,
		accountTokenRow{t.ID, t.Account, t.Digest, t.Label, t.Scope.Paths[0], int64(t.Scope.Rights), t.Address, micros(t.Created), micros(t.Expires), micros(t.LastUsed)})
	return err
}

// DropAccountToken removes one of an account's; [ErrNotFound] when it has no such one.
func (db *DB) DropAccountToken(ctx context.Context, account int64, id string) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM account_token WHERE account_id = ? AND id = ?", account, id))
}
