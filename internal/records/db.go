package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the SQLite driver, in Go
)

//go:embed migrations/*.sql
var migrations embed.FS

// fileName is the database in the data folder.
const fileName = "urbankeep.db"

// readers is how many queries run at once.
const readers = 4

// ErrNotFound says that no record has the name or number asked for.
var ErrNotFound = errors.New("no such record")

// ErrTaken says that another record has the name already.
var ErrTaken = errors.New("the name is taken")

// DB is an open data folder's database.
type DB struct {
	dsn   string
	write *sqlx.DB // one connection: SQLite has one writer
	read  *sqlx.DB
	lock  *flock.Flock

	holders holders
	stores  stores
	groups  groups
	audit   auditStatements
}

// LockName is the file in the data folder that a process which uses it has locked.
const LockName = "urbankeep.lock"

// Open makes the data folder where it is missing (mode 0700), takes it for this
// process, and brings its database to the newest version. The error says what
// to do when the folder can't be written, is in use, or is from a newer program.
func Open(ctx context.Context, dir string) (*DB, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the data folder: %w: choose another with -data, or make it writable for this user", err)
	}
	lock := flock.New(filepath.Join(dir, LockName), flock.SetPermissions(0o600))
	taken, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock the data folder %s: %w: make it writable for this user, or choose another with -data", dir, err)
	}
	if !taken {
		return nil, fmt.Errorf("the data folder %s is in use by another urbankeep: stop that one, or choose another folder with -data", dir)
	}
	db := &DB{lock: lock}
	if err := db.open(ctx, filepath.Join(dir, fileName)); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return db, nil
}

func (db *DB) open(ctx context.Context, file string) error {
	// SQLite takes over the modes of the database file for its journal.
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("open the records: %w: make %s writable for this user", err, file)
	}
	f.Close()
	db.dsn = dsnOf(file)
	if db.write, err = sqlx.Open("sqlite", db.dsn+"&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)"); err != nil {
		return fmt.Errorf("open the records: %w", err)
	}
	db.write.SetMaxOpenConns(1)
	if err := db.migrate(ctx); err != nil {
		return err
	}
	if err := db.prepareAudit(ctx); err != nil {
		return err
	}
	if db.read, err = sqlx.Open("sqlite", db.dsn+"&_pragma=query_only(1)"); err != nil {
		return fmt.Errorf("open the records: %w", err)
	}
	db.read.SetMaxOpenConns(readers)
	db.read.SetMaxIdleConns(readers) // opening one anew costs more than most queries
	return nil
}

func dsnOf(file string) string {
	return "file:" + url.PathEscape(file) + "?_txlock=immediate&_pragma=busy_timeout(10000)"
}

// knownVersion refuses records that a newer program made.
func knownVersion(have int) error {
	files, err := fs.Glob(migrations, "migrations/*.sql")
	if err == nil && have > len(files) {
		err = fmt.Errorf("the data folder was made by a newer urbankeep (its records have version %d, this program knows %d): run that newer version", have, len(files))
	}
	return err
}

// migrate applies the numbered SQL files that the database has not seen, each
// in a transaction together with its number.
func (db *DB) migrate(ctx context.Context) error {
	files, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	sort.Strings(files)
	var have int
	if err := db.write.GetContext(ctx, &have, "PRAGMA user_version"); err != nil {
		return fmt.Errorf("open the records: %w: is %s really a database of urbankeep?", err, fileName)
	}
	if err := knownVersion(have); err != nil {
		return err
	}
	for number := have + 1; number <= len(files); number++ {
		text, err := migrations.ReadFile(files[number-1])
		if err != nil {
			return err
		}
		err = db.change(ctx, func(tx *sqlx.Tx) error {
			if _, err := tx.ExecContext(ctx, string(text)); err != nil {
				return err
			}
			_, err := tx.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", number))
			return err
		})
		if err != nil {
			return fmt.Errorf("bring the records to version %d: %w", number, err)
		}
	}
	return nil
}

// Integrity looks through the database and says what is wrong with it, "" when nothing is.
func (db *DB) Integrity(ctx context.Context) (string, error) {
	var said []string
	if err := db.read.SelectContext(ctx, &said, "PRAGMA quick_check(3)"); err != nil {
		if ctx.Err() != nil {
			return "", err
		}
		return err.Error(), nil
	}
	if len(said) == 1 && said[0] == "ok" {
		return "", nil
	}
	return strings.Join(said, "; "), nil
}

// Close lets go of the data folder.
func (db *DB) Close() error {
	var errs []error
	for _, pool := range []*sqlx.DB{db.read, db.write} {
		if pool != nil {
			errs = append(errs, pool.Close())
		}
	}
	return errors.Join(append(errs, db.lock.Unlock())...)
}

// change runs do in one transaction and commits it unless it fails.
func (db *DB) change(ctx context.Context, do func(*sqlx.Tx) error) error {
	tx, err := db.write.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// one turns "no rows" into [ErrNotFound].
func one(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// changed turns "no row was touched" into [ErrNotFound].
func changed(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}

func micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

func fromMicros(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.UnixMicro(n).UTC()
}
