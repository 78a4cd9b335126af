package records

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite" // the SQLite driver, in Go
	sqlite3 "modernc.org/sqlite/lib"
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
	dir   string   // the data folder
	write *sqlx.DB // one connection: SQLite has one writer
	read  *sqlx.DB
	lock  *flock.Flock

	holders holders
	stores  stores
	groups  groups
	audit   auditStatements
	turns   turns       // of whoever appends to the trail
	hanging atomic.Bool // something may hang on places; see [DB.Hanging]
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
	whole, err := filepath.Abs(dir)
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	db := &DB{lock: lock, dir: whole}
	if err := db.open(ctx, filepath.Join(dir, fileName)); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return db, nil
}

// markName is the file that says that a folder is a data folder in use.
const markName = "urbankeep.mark"

// Forget has the next [Open] of a data folder begin with new records, where they are gone.
func Forget(dir string) error {
	if err := os.Remove(filepath.Join(dir, markName)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// lost says that a data folder was in use and has lost its records.
func (db *DB) lost(file string) error {
	info, err := os.Stat(file)
	if err == nil && info.Size() > 0 || err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	mark, err := os.Stat(filepath.Join(db.dir, markName))
	if err != nil {
		return nil
	}
	return fmt.Errorf("the data folder %s has been in use since %s, but its records, %s, are gone: put them back from a backup (urbankeep restore), or begin anew with serve -accept-loss",
		db.dir, mark.ModTime().UTC().Format(time.DateOnly), fileName)
}

func (db *DB) mark() error {
	name := filepath.Join(db.dir, markName)
	if _, err := os.Stat(name); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return WriteFile(name, []byte("This folder is the data folder of an urbankeep. Leave this file here: by it the service knows when its records are gone.\n"))
}

// unusable says what is wrong with records that can't be read.
func unusable(err error) error {
	var broken *sqlite.Error
	say := "make it readable and writable for this user"
	if errors.As(err, &broken) {
		switch broken.Code() & 0xff {
		case sqlite3.SQLITE_FULL:
			say = "the disk is full: free some space"
		case sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CORRUPT:
			say = "it is damaged, or no database of urbankeep: put it back from a backup (urbankeep restore)"
		case sqlite3.SQLITE_IOERR:
			say = "the disk has faults or is full: free some space, or put the data folder on another disk"
		}
	}
	return fmt.Errorf("open the records, %s: %w: %s", fileName, err, say)
}

func (db *DB) open(ctx context.Context, file string) error {
	if err := db.lost(file); err != nil {
		return err
	}
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
	if err := errors.Join(db.prepareAudit(ctx), db.mark(), db.layOut(ctx)); err != nil {
		return err
	}
	if db.read, err = sqlx.Open("sqlite", db.dsn+"&_pragma=query_only(1)"); err != nil {
		return fmt.Errorf("open the records: %w", err)
	}
	db.read.SetMaxOpenConns(readers)
	db.read.SetMaxIdleConns(readers) // opening one anew costs more than most queries
	return db.lookHanging(ctx)
}

// spare is how much of the database and layings how many times that of its log is laid out
// at the start, bytes: enough for changes of settings when the disk is full.
const (
	spare   = 1 << 20
	layings = 6
)

// layOut makes the log of the database longer than it gets before it begins anew. It writes
// in the log only; what the database itself grows by is used for records.
func (db *DB) layOut(ctx context.Context) error {
	bytes := make([]byte, spare) // random, so that no file system makes them less
	for _, statement := range slices.Concat(
		[]string{"PRAGMA wal_autocheckpoint = 0", "PRAGMA synchronous = OFF", "INSERT INTO room (bytes) VALUES (?)"},
		slices.Repeat([]string{"UPDATE room SET bytes = ?"}, layings-1),
		[]string{"DELETE FROM room", "PRAGMA synchronous = FULL", "PRAGMA wal_autocheckpoint = 1000"}) {
		var values []any
		if strings.Contains(statement, "?") {
			rand.Read(bytes)
			values = []any{bytes}
		}
		if _, err := db.write.ExecContext(ctx, statement, values...); err != nil {
			return unusable(err)
		}
	}
	var busy, log, moved int
	return db.write.QueryRowContext(ctx, "PRAGMA wal_checkpoint(RESTART)").Scan(&busy, &log, &moved)
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
		return unusable(err)
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

// together is the key under which a context has the transaction of [DB.Together].
type together struct{}

// Together runs do in one transaction: what it writes with the context that it is given
// stands or falls as one. It reads as if nothing of that were there yet.
func (db *DB) Together(ctx context.Context, do func(context.Context) error) error {
	err := db.change(ctx, func(tx *sqlx.Tx) error { return do(context.WithValue(ctx, together{}, tx)) })
	db.forget()
	return err
}

// forget makes the next reader read what is remembered: it may be from before a commit.
func (db *DB) forget() {
	db.forgetGroups()
	db.stores.mu.Lock()
	defer db.stores.mu.Unlock()
	db.stores.known = nil
}

// writer takes what is written, in a transaction of its own or in one with other things.
type writer interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	NamedExecContext(ctx context.Context, query string, arg any) (sql.Result, error)
}

func (db *DB) to(ctx context.Context) writer {
	if tx, in := ctx.Value(together{}).(*sqlx.Tx); in {
		return tx
	}
	return db.write
}

// change runs do in one transaction and commits it unless it fails.
func (db *DB) change(ctx context.Context, do func(*sqlx.Tx) error) error {
	if tx, in := ctx.Value(together{}).(*sqlx.Tx); in {
		return do(tx)
	}
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
