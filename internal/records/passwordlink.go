package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// PasswordLink is a password that waits to be fetched once.
type PasswordLink struct {
	Digest  []byte // of the link's secret
	Account string
	Sealed  []byte // the password, sealed with a key that only the link has
	Expires time.Time
}

// AddPasswordLink writes a link, and drops the account's others and those past their end.
func (db *DB) AddPasswordLink(ctx context.Context, l PasswordLink, now time.Time) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM password_link WHERE account_id = (SELECT id FROM account WHERE name = ?) OR expires <= ?", l.Account, micros(now)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO password_link (digest, account_id, sealed, expires) VALUES (?, (SELECT id FROM account WHERE name = ?), ?, ?)", l.Digest, l.Account, l.Sealed, micros(l.Expires))
		return err
	})
}

// TakePasswordLink takes a link away and gives what it held: nobody else gets it.
// [ErrNotFound] when there is no such one any more.
func (db *DB) TakePasswordLink(ctx context.Context, digest []byte, now time.Time) (l PasswordLink, err error) {
	var row struct {
		Account string `db:"account"`
		Sealed  []byte `db:"sealed"`
		Expires int64  `db:"expires"`
	}
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &row, "DELETE FROM password_link WHERE digest = ? AND expires > ? RETURNING (SELECT name FROM account WHERE id = account_id) AS account, sealed, expires", digest, micros(now))
	})
	return PasswordLink{digest, row.Account, row.Sealed, fromMicros(row.Expires)}, one(err)
}
