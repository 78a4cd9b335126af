package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

// Plan says how a backup is to be brought back.
type Plan struct {
	Dir     string            // the data folder
	Replace bool              // what is there is moved aside
	Stores  map[string]string // where stores lie now, by name
	Unlock  Unlock
	DryRun  bool // only check the backup
}

// Restored says what came back.
type Restored struct {
	Manifest
	Records  int64        // of the audit trail, all verified
	Accounts int          // how many
	Stores   []keep.Store // where they lie now
	Aside    string       // where what was there before is now; "": nothing was
}

// Restore checks a backup from end to end in a folder of its own, and only then puts it in
// place. After an error the data folder is as it was.
func Restore(ctx context.Context, r io.Reader, p Plan) (done Restored, err error) {
	if p.Dir, err = filepath.Abs(p.Dir); err != nil {
		return done, err
	}
	if p.DryRun {
		return check(ctx, r, p)
	}
	fresh := false
	if _, err := os.Stat(p.Dir); errors.Is(err, fs.ErrNotExist) {
		fresh = true
	}
	if err := os.MkdirAll(p.Dir, 0o700); err != nil {
		return done, fmt.Errorf("make the data folder: %w", err)
	}
	lock := flock.New(filepath.Join(p.Dir, records.LockName))
	if taken, err := lock.TryLock(); err != nil || !taken {
		return done, errors.Join(err, fmt.Errorf("the data folder %s is in use by a running urbankeep: stop it first", p.Dir))
	}
	defer lock.Unlock()
	if there := held(p.Dir); len(there) > 0 && !p.Replace {
		return done, fmt.Errorf("%s holds a data folder already (%s): choose an empty one, or say -replace, which moves that aside", p.Dir, there[0])
	}
	scratch, err := os.MkdirTemp(p.Dir, "backup-")
	if err != nil {
		return done, err
	}
	defer func() {
		err = errors.Join(err, os.RemoveAll(scratch))
		if fresh && err != nil {
			lock.Unlock()
			os.Remove(filepath.Join(p.Dir, records.LockName))
			os.Remove(p.Dir) // if nothing else is in it
		}
	}()
	if done.Manifest, err = Unpack(r, scratch, p.Unlock); err != nil {
		return done, err
	}
	if err := p.prove(ctx, scratch, &done); err != nil {
		return done, err
	}
	there, names := held(p.Dir), held(scratch)
	if len(there) > 0 {
		done.Aside = filepath.Join(p.Dir, time.Now().UTC().Format("before-20060102T150405Z"))
		if err := move(there, p.Dir, done.Aside); err != nil {
			return done, err
		}
	}
	if err := move(names, scratch, p.Dir); err != nil {
		return done, errors.Join(err, move(held(p.Dir), p.Dir, scratch), move(there, done.Aside, p.Dir))
	}
	return done, give(p.Dir, append(names, records.LockName))
}

// check checks a backup in a folder of its own: in the data folder, where there is room for
// it and nobody else may look, even while a service uses that; else where the system has
// things for a while.
func check(ctx context.Context, r io.Reader, p Plan) (done Restored, err error) {
	scratch, err := os.MkdirTemp(p.Dir, "backup-")
	if err != nil {
		scratch, err = os.MkdirTemp("", "urbankeep-backup-")
	}
	if err != nil {
		return done, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	if done.Manifest, err = Unpack(r, scratch, p.Unlock); err != nil {
		return done, err
	}
	return done, p.prove(ctx, scratch, &done)
}

// prove opens what was unpacked as a service would, verifies its trail, and says where its
// stores lie now.
func (p *Plan) prove(ctx context.Context, dir string, done *Restored) error {
	if err := records.Check(ctx, filepath.Join(dir, database)); err != nil {
		return fmt.Errorf("the backup can't be used, so nothing was restored: %w", err)
	}
	db, err := records.Open(ctx, dir)
	if err != nil {
		return err
	}
	err = p.inspect(ctx, dir, db, done)
	return errors.Join(err, db.Close(), os.Remove(filepath.Join(dir, records.LockName)))
}

func (p *Plan) inspect(ctx context.Context, dir string, db *records.DB, done *Restored) error {
	seal, err := audit.OpenSeal(dir)
	if err != nil {
		return err
	}
	report, err := audit.Verify(ctx, db, audit.Check{Seal: seal})
	if err != nil {
		return err
	}
	if report.BadSeq != 0 {
		return fmt.Errorf("the audit trail in the backup does not hold, so nothing was restored: record %d: %s", report.BadSeq, report.Problem)
	}
	accounts, err := db.AllAccounts(ctx)
	if err != nil {
		return err
	}
	done.Records, done.Accounts = report.Checked, len(accounts)
	stores, err := db.Stores(ctx)
	if err != nil {
		return err
	}
	for _, s := range stores {
		for _, data := range []string{dir, done.Folder} {
			if below, err := filepath.Rel(data, s.Folder); err == nil && filepath.IsLocal(below) {
				s.Folder = filepath.Join(p.Dir, below) // it lay in the data folder
			}
		}
		if now, ok := p.Stores[s.Name]; ok {
			if s.Folder, err = filepath.Abs(now); err != nil {
				return err
			}
			s.Mark = "" // that it is the right one is said here
		}
		done.Stores = append(done.Stores, s)
	}
	for name := range p.Stores {
		known := false
		for _, s := range done.Stores {
			known = known || s.Name == name
		}
		if !known {
			return fmt.Errorf("the backup has no store named %s, so nothing was restored", name)
		}
	}
	if p.DryRun {
		return nil
	}
	for _, s := range done.Stores {
		if below, err := filepath.Rel(p.Dir, s.Folder); err == nil && filepath.IsLocal(below) {
			s.Folder = below
		}
		if err := db.SaveStore(ctx, s); err != nil {
			return err
		}
	}
	journal, err := audit.OpenJournal(dir)
	if err != nil {
		return err
	}
	trail, err := audit.Open(ctx, db, audit.Options{Journal: journal, Seal: seal, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer trail.Close()
	return trail.Record(keep.AuditRecord{Action: keep.Restoring, Protocol: keep.Local, Encrypted: true, Outcome: keep.Done,
		Detail: fmt.Sprintf("the backup of %s, made on %s", done.Folder, done.Made.Format(time.RFC3339))})
}

// held are the names in a folder that belong to a data folder, but not its stores.
func held(dir string) (names []string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		name := e.Name()
		for _, part := range append([]string{database, "audit.journal"}, parts...) {
			if name == part || strings.HasPrefix(name, part+"-") || strings.HasPrefix(name, part+".") {
				names = append(names, name)
				break
			}
		}
	}
	return names
}

func move(names []string, from, to string) error {
	if len(names) == 0 {
		return nil
	}
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	for _, name := range names {
		if err := os.Rename(filepath.Join(from, name), filepath.Join(to, name)); err != nil {
			return err
		}
	}
	return nil
}
