package records

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// Snapshot writes a consistent copy of the database into a new file, while it is used:
// readers and writers go on.
func (db *DB) Snapshot(ctx context.Context, file string) error {
	copier, err := sqlx.Open("sqlite", db.dsn)
	if err != nil {
		return err
	}
	defer copier.Close()
	_, err = copier.ExecContext(ctx, "VACUUM INTO ?", file)
	return err
}

// Check looks at a database file that nobody uses: whether it is sound, and whether this
// program knows its version. The error says what is wrong.
func Check(ctx context.Context, file string) error {
	db, err := sqlx.Open("sqlite", dsnOf(file)+"&_pragma=query_only(1)")
	if err != nil {
		return err
	}
	defer db.Close()
	checked := &DB{read: db}
	problem, err := checked.Integrity(ctx)
	if err != nil {
		return err
	}
	if problem != "" {
		return fmt.Errorf("the records are damaged: %s", problem)
	}
	var have int
	if err := db.GetContext(ctx, &have, "PRAGMA user_version"); err != nil {
		return err
	}
	return knownVersion(have)
}
