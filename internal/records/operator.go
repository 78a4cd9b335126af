package records

import (
	"context"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

type operatorRow struct {
	ID           int64  `db:"id"`
	Name         string `db:"name"`
	Role         string `db:"role"`
	PasswordHash string `db:"password_hash"`
	CodeSecret   string `db:"code_secret"`
	CodeStep     int64  `db:"code_step"`
	Source       string `db:"source"`
	SourceID     string `db:"source_id"`
	Created      int64  `db:"created"`
	LastSignIn   int64  `db:"last_sign_in"`
}

func (r operatorRow) operator() *keep.Operator {
	return &keep.Operator{ID: r.ID, Name: r.Name, Role: keep.Role(r.Role), PasswordHash: keep.Secret(r.PasswordHash), CodeSecret: keep.Secret(r.CodeSecret), CodeStep: r.CodeStep, Source: r.Source, SourceID: r.SourceID,
		Created: fromMicros(r.Created), LastSignIn: fromMicros(r.LastSignIn)}
}

func operatorRowOf(o *keep.Operator) operatorRow {
	return operatorRow{o.ID, o.Name, string(o.Role), o.PasswordHash.Reveal(), o.CodeSecret.Reveal(), o.CodeStep, o.Source, o.SourceID, micros(o.Created), micros(o.LastSignIn)}
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
		err := changed(tx.ExecContext(ctx, "DELETE FROM proof WHERE digest = ? AND kind = 'setup' AND expires > ?", setupDigest, micros(now)))
		if err != nil {
			return err
		}
		return insertOperator(ctx, tx, o)
	}))
}

func insertOperator(ctx context.Context, tx *sqlx.Tx, o *keep.Operator) error {
	result, err := tx.NamedExecContext(ctx, `INSERT INTO operator (name, role, password_hash, code_secret, code_step, source, source_id, created, last_sign_in)
		VALUES (:name, :role, :password_hash, :code_secret, :code_step, :source, :source_id, :created, :last_sign_in)`, operatorRowOf(o))
	if err != nil {
		return err
	}
	o.ID, err = result.LastInsertId()
	return err
}

// ErrLastOwner says that a change would leave the service without an owner.
var ErrLastOwner = errors.New("the last owner")

// SaveOperator writes what changed of an operator. [ErrLastOwner] when none would be left.
// Endings are the kinds of proofs that end with the change, and recovery the digests of
// recovery codes that begin with it.
func (db *DB) SaveOperator(ctx context.Context, o *keep.Operator, endings []string, recovery [][]byte) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		err := changed(tx.NamedExecContext(ctx, "UPDATE operator SET role = :role, password_hash = :password_hash, code_secret = :code_secret, code_step = :code_step, source = :source, source_id = :source_id WHERE id = :id", operatorRowOf(o)))
		if err != nil {
			return err
		}
		for _, kind := range endings {
			if _, err := tx.ExecContext(ctx, "DELETE FROM proof WHERE operator_id = ? AND kind = ?", o.ID, kind); err != nil {
				return err
			}
		}
		for _, digest := range recovery {
			p := Proof{Digest: digest, Kind: "recovery", Operator: o.ID, Created: time.Now(), Expires: time.Now().AddDate(100, 0, 0)}
			if err := insertProof(ctx, tx, p); err != nil {
				return err
			}
		}
		return ownerLeft(ctx, tx)
	})
}

// DeleteOperator removes an operator with everything that proves it. [ErrLastOwner] when
// no owner would be left.
func (db *DB) DeleteOperator(ctx context.Context, id int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if err := changed(tx.ExecContext(ctx, "DELETE FROM operator WHERE id = ?", id)); err != nil {
			return err
		}
		return ownerLeft(ctx, tx)
	})
}

func ownerLeft(ctx context.Context, tx *sqlx.Tx) error {
	var owners int
	if err := tx.GetContext(ctx, &owners, "SELECT count(*) FROM operator WHERE role = 'owner'"); err != nil {
		return err
	}
	if owners == 0 {
		return ErrLastOwner
	}
	return nil
}

// OperatorsFrom counts the operators that come from a source.
func (db *DB) OperatorsFrom(ctx context.Context, source string) (n int, err error) {
	return n, db.read.GetContext(ctx, &n, "SELECT count(*) FROM operator WHERE source = ? COLLATE NOCASE", source)
}

// SpendStep notes that the code of a time step was used. [ErrNotFound] when that or a
// later one was used before.
func (db *DB) SpendStep(ctx context.Context, operator, step int64) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE operator SET code_step = ? WHERE id = ? AND code_step < ?", step, operator, step))
}

// NoteOperator notes that an operator signed in.
func (db *DB) NoteOperator(ctx context.Context, operator int64, at time.Time) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE operator SET last_sign_in = ? WHERE id = ?", micros(at), operator))
}
