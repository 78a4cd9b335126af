package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

// Proof is what shows that a request comes from an operator. Only its SHA-256
// digest is kept.
type Proof struct {
	Digest   []byte
	Kind     string // "cookie", "token", "setup" or "recovery"
	Operator int64  // 0 for a set-up link
	Label    string
	Role     keep.Role // it may do no more than this; "": all that its operator may
	Address  string    // from where it was made
	Created  time.Time
	Expires  time.Time
	LastUsed time.Time // to the minute
}

type proofRow struct {
	Digest   []byte `db:"digest"`
	Kind     string `db:"kind"`
	Operator *int64 `db:"operator_id"`
	Label    string `db:"label"`
	Role     string `db:"role"`
	Address  string `db:"address"`
	Created  int64  `db:"created"`
	Expires  int64  `db:"expires"`
	LastUsed int64  `db:"last_used"`
}

func (r proofRow) proof() Proof {
	p := Proof{Digest: r.Digest, Kind: r.Kind, Label: r.Label, Role: keep.Role(r.Role), Address: r.Address, Created: fromMicros(r.Created), Expires: fromMicros(r.Expires), LastUsed: fromMicros(r.LastUsed)}
	if r.Operator != nil {
		p.Operator = *r.Operator
	}
	return p
}

// AddProof writes a proof, and drops those that have expired.
func (db *DB) AddProof(ctx context.Context, p Proof) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM proof WHERE expires <= ?", micros(p.Created)); err != nil {
			return err
		}
		return insertProof(ctx, tx, p)
	})
}

func insertProof(ctx context.Context, tx *sqlx.Tx, p Proof) error {
	row := proofRow{p.Digest, p.Kind, nil, p.Label, string(p.Role), p.Address, micros(p.Created), micros(p.Expires), micros(p.LastUsed)}
	if p.Operator != 0 {
		row.Operator = &p.Operator
	}
	_, err := tx.NamedExecContext(ctx, `INSERT INTO proof (digest, kind, operator_id, label, role, address, created, expires, last_used)
		VALUES (:digest, :kind, :operator_id, :label, :role, :address, :created, :expires, :last_used)`, row)
	return err
}

// DropProofs removes every proof of a kind.
func (db *DB) DropProofs(ctx context.Context, kind string) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM proof WHERE kind = ?", kind)
	return err
}

// DropOtherCookies ends an operator's console sign-ins but one.
func (db *DB) DropOtherCookies(ctx context.Context, operator int64, but []byte) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM proof WHERE operator_id = ? AND kind = 'cookie' AND digest <> ?", operator, but)
	return err
}

// DropProof removes one proof; [ErrNotFound] when there is none.
func (db *DB) DropProof(ctx context.Context, digest []byte) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM proof WHERE digest = ?", digest))
}

// SpendRecovery removes a recovery code of an operator; [ErrNotFound] when it has no such one.
func (db *DB) SpendRecovery(ctx context.Context, operator int64, digest []byte) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM proof WHERE digest = ? AND operator_id = ? AND kind = 'recovery'", digest, operator))
}

// Proofs are the live proofs of operators of the kinds asked for, newest first.
func (db *DB) Proofs(ctx context.Context, now time.Time, kinds ...string) ([]Proof, error) {
	query, args, err := sqlx.In("SELECT * FROM proof WHERE kind IN (?) AND expires > ? AND operator_id IS NOT NULL ORDER BY created DESC, digest", kinds, micros(now))
	if err != nil {
		return nil, err
	}
	var rows []proofRow
	err = db.read.SelectContext(ctx, &rows, query, args...)
	found := make([]Proof, len(rows))
	for i, row := range rows {
		found[i] = row.proof()
	}
	return found, err
}

// usedPace is how exactly it is known when a proof was used last: a write for every
// request would cost more than the request.
const usedPace = time.Minute

// Proven finds who holds a live proof of a kind, and the proof, and notes that it was used.
func (db *DB) Proven(ctx context.Context, kind string, digest []byte, now time.Time) (*keep.Operator, Proof, error) {
	var row proofRow
	if err := db.read.GetContext(ctx, &row, "SELECT * FROM proof WHERE digest = ? AND kind = ? AND expires > ? AND operator_id IS NOT NULL", digest, kind, micros(now)); err != nil {
		return nil, Proof{}, one(err)
	}
	var operator operatorRow
	if err := db.read.GetContext(ctx, &operator, "SELECT * FROM operator WHERE id = ?", *row.Operator); err != nil {
		return nil, Proof{}, one(err)
	}
	p := row.proof()
	if now.Sub(p.LastUsed) >= usedPace {
		if _, err := db.to(ctx).ExecContext(ctx, "UPDATE proof SET last_used = ? WHERE digest = ?", micros(now), digest); err != nil {
			return nil, p, err
		}
	}
	return operator.operator(), p, nil
}
