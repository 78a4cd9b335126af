package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

type operatorRow struct {
	ID           int64  `db:"id"`
	Name         string `db:"name"`
	Role         string `db:"role"`
	PasswordHash string `db:"password_hash"`
	Created      int64  `db:"created"`
}

func (r operatorRow) operator() *keep.Operator {
	return &keep.Operator{ID: r.ID, Name: r.Name, Role: keep.Role(r.Role), PasswordHash: keep.Secret(r.PasswordHash), Created: fromMicros(r.Created)}
}

// Operator reads one operator by name.
func (db *DB) Operator(ctx context.Context, name string) (*keep.Operator, error) {
	var row operatorRow
	err := db.read.GetContext(ctx, &row, "SELECT * FROM operator WHERE name = ?", name)
	return row.operator(), one(err)
}

// Operators reads all operators, by name.
func (db *DB) Operators(ctx context.Context) ([]*keep.Operator, error) {
	var rows []operatorRow
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM operator ORDER BY name")
	found := make([]*keep.Operator, len(rows))
	for i, row := range rows {
		found[i] = row.operator()
	}
	return found, err
}

// AddOperator writes a new operator and sets its ID; [ErrTaken] when the name is.
func (db *DB) AddOperator(ctx context.Context, o *keep.Operator) error {
	return taken(db.change(ctx, func(tx *sqlx.Tx) error { return insertOperator(ctx, tx, o) }))
}

// AddFirstOperator spends a set-up proof on the first operator: in one step, so
// that the link works once. [ErrNotFound] when the proof is spent, wrong or too old.
func (db *DB) AddFirstOperator(ctx context.Context, setupDigest []byte, o *keep.Operator, now time.Time) error {
	return taken(db.change(ctx, func(tx *sqlx.Tx) error {
		err := changed(tx.ExecContext(ctx, "DELETE FROM operator_proof WHERE digest = ? AND kind = 'setup' AND expires > ?", setupDigest, micros(now)))
		if err != nil {
			return err
		}
		return insertOperator(ctx, tx, o)
	}))
}

func insertOperator(ctx context.Context, tx *sqlx.Tx, o *keep.Operator) error {
	result, err := tx.NamedExecContext(ctx, "INSERT INTO operator (name, role, password_hash, created) VALUES (:name, :role, :password_hash, :created)",
		operatorRow{Name: o.Name, Role: string(o.Role), PasswordHash: o.PasswordHash.Reveal(), Created: micros(o.Created)})
	if err != nil {
		return err
	}
	o.ID, err = result.LastInsertId()
	return err
}

// Proof is what shows that a request comes from an operator. Only its SHA-256
// digest is kept.
type Proof struct {
	Digest   []byte
	Kind     string // "cookie", "token" or "setup"
	Operator int64  // 0 for a set-up link
	Label    string
	Created  time.Time
	Expires  time.Time
}

// AddProof writes a proof, and drops those that have expired.
func (db *DB) AddProof(ctx context.Context, p Proof) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM operator_proof WHERE expires <= ?", micros(p.Created)); err != nil {
			return err
		}
		var operator *int64
		if p.Operator != 0 {
			operator = &p.Operator
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO operator_proof (digest, kind, operator_id, label, created, expires) VALUES (?, ?, ?, ?, ?, ?)",
			p.Digest, p.Kind, operator, p.Label, micros(p.Created), micros(p.Expires))
		return err
	})
}

// DropProofs removes every proof of a kind.
func (db *DB) DropProofs(ctx context.Context, kind string) error {
	_, err := db.write.ExecContext(ctx, "DELETE FROM operator_proof WHERE kind = ?", kind)
	return err
}

// DropProof removes one proof.
func (db *DB) DropProof(ctx context.Context, digest []byte) error {
	return changed(db.write.ExecContext(ctx, "DELETE FROM operator_proof WHERE digest = ?", digest))
}

// ProvenOperator finds who holds a live proof of a kind.
func (db *DB) ProvenOperator(ctx context.Context, kind string, digest []byte, now time.Time) (*keep.Operator, error) {
	var row operatorRow
	err := db.read.GetContext(ctx, &row, `SELECT operator.* FROM operator_proof JOIN operator ON operator.id = operator_id
		WHERE digest = ? AND kind = ? AND expires > ?`, digest, kind, micros(now))
	return row.operator(), one(err)
}
