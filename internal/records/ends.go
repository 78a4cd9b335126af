package records

import (
	"context"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

// EndShown removes what an account has shown, or what stands for it, that ends with a change.
func (db *DB) EndShown(ctx context.Context, account int64, change keep.AccountChange) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return endShown(ctx, tx, account, change) })
}

func endShown(ctx context.Context, tx *sqlx.Tx, account int64, change keep.AccountChange) error {
	ends := keep.Ends[change]
	for query, end := range map[string]bool{
		"DELETE FROM account_token WHERE account_id = ?":   ends.Tokens,
		"DELETE FROM account_passkey WHERE account_id = ?": ends.Passkeys,
		"DELETE FROM factor_network WHERE account = ?":     ends.Networks,
		"DELETE FROM password_link WHERE account_id = ?":   ends.Links,
	} {
		if end {
			if _, err := tx.ExecContext(ctx, query, account); err != nil {
				return err
			}
		}
	}
	return nil
}
