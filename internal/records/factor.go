package records

import (
	"context"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

// CodeSecret reads the secret of an account's one-time codes, "" when it has none, and how many recovery codes are left.
func (db *DB) CodeSecret(ctx context.Context, account int64) (secret keep.Secret, left int, err error) {
	var text string
	err = one(db.read.GetContext(ctx, &text, "SELECT secret FROM account_code WHERE account_id = ?", account))
	if errors.Is(err, ErrNotFound) {
		return "", 0, nil
	}
	if err == nil {
		err = db.read.GetContext(ctx, &left, "SELECT count(*) FROM account_recovery WHERE account_id = ?", account)
	}
	return keep.Secret(text), left, err
}

// SetCodeSecret gives an account another secret, of which a step was used, and other recovery codes.
func (db *DB) SetCodeSecret(ctx context.Context, account int64, secret keep.Secret, step int64, recovery [][]byte) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if err := dropCodes(ctx, tx, account); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO account_code (account_id, secret, step) VALUES (?, ?, ?)", account, secret.Reveal(), step); err != nil {
			return err
		}
		for _, digest := range recovery {
			if _, err := tx.ExecContext(ctx, "INSERT INTO account_recovery (account_id, digest) VALUES (?, ?)", account, digest); err != nil {
				return err
			}
		}
		return nil
	})
}

// DropCodeSecret takes an account's one-time codes away.
func (db *DB) DropCodeSecret(ctx context.Context, account int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return dropCodes(ctx, tx, account) })
}

func dropCodes(ctx context.Context, tx *sqlx.Tx, account int64) error {
	_, err := tx.ExecContext(ctx, "DELETE FROM account_recovery WHERE account_id = ?", account)
	if err == nil {
		_, err = tx.ExecContext(ctx, "DELETE FROM factor_network WHERE account = ?", account)
	}
	if err == nil {
		_, err = tx.ExecContext(ctx, "DELETE FROM account_code WHERE account_id = ?", account)
	}
	return err
}

// SpendAccountStep notes that the code of a time step was used. [ErrNotFound] when that or a later one was used before.
func (db *DB) SpendAccountStep(ctx context.Context, account, step int64) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE account_code SET step = ? WHERE account_id = ? AND step < ?", step, account, step))
}

// SpendAccountRecovery removes a recovery code of an account; [ErrNotFound] when it has no such one.
func (db *DB) SpendAccountRecovery(ctx context.Context, account int64, digest []byte) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM account_recovery WHERE account_id = ? AND digest = ?", account, digest))
}

// maxFactorNetworks bounds the networks that are remembered of one account.
const maxFactorNetworks = 50

// FactorRemembered reports whether the second factor of an account is not asked for in a network.
func (db *DB) FactorRemembered(ctx context.Context, account int64, network string, now time.Time) (is bool, err error) {
	return is, db.read.GetContext(ctx, &is, "SELECT count(*) > 0 FROM factor_network WHERE account = ? AND network = ? AND until > ?", account, network, micros(now))
}

// RememberFactor notes that it was right there; the networks that were noted first are forgotten when there are too many.
func (db *DB) RememberFactor(ctx context.Context, account int64, network string, now, until time.Time) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO factor_network (account, network, until) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET until = excluded.until", account, network, micros(until))
		if err == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM factor_network WHERE account = ? AND (until <= ? OR network NOT IN
				(SELECT network FROM factor_network WHERE account = ? ORDER BY until DESC LIMIT ?))`, account, micros(now), account, maxFactorNetworks)
		}
		return err
	})
}
