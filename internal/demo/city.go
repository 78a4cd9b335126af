package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/crypto/ssh/knownhosts"

	"urbankeep/internal/keep"
	"urbankeep/internal/pubkey"
	"urbankeep/internal/service"
	"urbankeep/internal/signin"
)

// credentialsFile marks a folder as a demo's.
const credentialsFile = "credentials.json"

// clear empties an earlier demo's folder unless a service still runs on it.
func clear(dir string) error {
	lock := flock.New(filepath.Join(dir, "urbankeep.lock"))
	free, err := lock.TryLock()
	if err != nil {
		return err
	}
	if !free {
		return fmt.Errorf("a demo runs on %s already: stop that one, or choose another folder with -data", dir)
	}
	err = os.RemoveAll(dir)
	return errors.Join(err, lock.Unlock())
}

// citizen is an account of the city and how it signs in.
type citizen struct {
	name, note, password string
	key                  bool
	home                 string
	rights               keep.Rights
	basemaps, plain      bool
}

// proofs is the narrowest policy that lets the citizen in.
func (who citizen) proofs() keep.Proofs {
	switch {
	case who.password == "" && who.key:
		return keep.ByKey
	case !who.key && who.password != "":
		return keep.ByPassword
	}
	return keep.ByEither
}

// The passwords stand in the README too: nothing real is behind them.
var citizens = []citizen{
	{name: "gauge-north", note: "Tide gauge at the north pier; speaks plain FTP only", password: "tide-north-4471", home: "instruments/{account}", rights: keep.Upload, plain: true},
	{name: "gauge-quay", note: "Tide gauge at the customs quay; speaks plain FTP only", password: "tide-quay-9120", home: "instruments/{account}", rights: keep.Upload, plain: true},
	{name: "gauge-lock", note: "Tide gauge at the canal lock; speaks plain FTP only", password: "tide-lock-3385", home: "instruments/{account}", rights: keep.Upload, plain: true},
	{name: "crew-harbour", note: "Field crew, harbour district", key: true, home: "crews/{account}", rights: keep.Full, basemaps: true},
	{name: "crew-hillside", note: "Field crew, hillside district", key: true, home: "crews/{account}", rights: keep.Full, basemaps: true},
	{name: "print-bureau", note: "Fetches plates for print, nightly", password: "plates-for-print-27", home: "shared/plates", rights: keep.List | keep.Download},
	{name: "drone-contractor", note: "Aerial survey until the end of the season", password: "high-over-selwyn-8", home: "partners/{account}", rights: keep.Full &^ (keep.Overwrite | keep.Rename | keep.Delete | keep.Rmdir)},
	{name: keep.Anonymous, note: "Open tide tables, for everybody", home: "shared/tide-tables", rights: keep.List | keep.Download, plain: true},
	{name: "records-desk", note: "Sees everything", password: "ledger-of-selwyn-1", key: true, home: "/", rights: keep.Full},
}

var operators = []struct {
	name, password string
	role           keep.Role
}{
	{"ilse", "harbour-master-1", keep.Owner},
	{"tomas", "survey-office-22", keep.Manager},
	{"auditor", "reads-only-2026", keep.Auditor},
}

// city is the sample city in one data folder.
type city struct {
	dir string
	now time.Time
}

func newCity(dir string) *city { return &city{dir: dir, now: time.Now().UTC().Truncate(time.Minute)} }

// founded is when the accounts were made.
func (c *city) founded() time.Time {
	return c.now.AddDate(0, 0, -15).Truncate(24 * time.Hour).Add(9 * time.Hour)
}

// build makes operators, accounts, files and history.
func (c *city) build(ctx context.Context, s *service.Service) error {
	hasher := signin.NewHasher()
	var papers struct {
		Accounts  []map[string]string `json:"accounts"`
		Operators []map[string]string `json:"operators"`
	}
	for _, o := range operators {
		hash, err := hasher.Hash(ctx, keep.Secret(o.password))
		if err != nil {
			return err
		}
		if err := s.DB.AddOperator(ctx, &keep.Operator{Name: o.name, Role: o.role, PasswordHash: hash, Created: c.founded()}); err != nil {
			return err
		}
		papers.Operators = append(papers.Operators, map[string]string{"operator": o.name, "password": o.password})
	}
	for _, who := range citizens {
		paper, err := c.settle(ctx, s, hasher, who)
		if err != nil {
			return fmt.Errorf("account %s: %w", who.name, err)
		}
		papers.Accounts = append(papers.Accounts, paper)
	}
	text, err := json.MarshalIndent(papers, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(c.dir, credentialsFile), append(text, '\n'), 0o600); err != nil {
		return err
	}
	if err := c.furnish(); err != nil {
		return err
	}
	return c.remember(s)
}

// settle makes one account and gives what it signs in with.
func (c *city) settle(ctx context.Context, s *service.Service, hasher *signin.Hasher, who citizen) (map[string]string, error) {
	paper := map[string]string{"account": who.name}
	a := &keep.Account{Name: who.name, Note: who.note, State: keep.StateActive, SignInBy: who.proofs(), AllowPlain: who.plain, Created: c.founded(), Changed: c.founded(),
		Mounts: []keep.Mount{{At: "/", Store: "files", Folder: who.home}}, Grants: []keep.Grant{{Path: "/", Rights: who.rights}}}
	if who.name == "drone-contractor" {
		a.ValidUntil, a.MaxSessions = c.now.AddDate(0, 0, 9).Truncate(24*time.Hour), 4
		a.MaxUpload = 1 << 30
	}
	if who.basemaps {
		a.Mounts = append(a.Mounts, keep.Mount{At: "/basemaps", Store: "files", Folder: "shared/basemaps", ReadOnly: true})
	}
	if err := a.Check(); err != nil {
		return nil, err
	}
	if who.password != "" {
		paper["password"] = who.password
		hash, err := hasher.Hash(ctx, keep.Secret(who.password))
		if err != nil {
			return nil, err
		}
		a.PasswordHash = hash
	}
	if err := s.DB.AddAccount(ctx, a); err != nil {
		return nil, err
	}
	if !who.key {
		return paper, nil
	}
	file, key, err := c.makeKey(who.name)
	if err != nil {
		return nil, err
	}
	paper["keyFile"] = file
	key.AccountID, key.Added = a.ID, c.founded()
	return paper, s.DB.AddKey(ctx, &key)
}

// introduce writes what sftp needs to know the service by its host keys.
func (c *city) introduce(s *service.Service) error {
	var lines string
	for _, key := range s.HostKeys.Known() {
		lines += knownhosts.Line([]string{s.Address("sftp")}, key.PublicKey()) + "\n"
	}
	return os.WriteFile(filepath.Join(c.dir, "known_hosts"), []byte(lines), 0o600)
}

// makeKey makes a key pair in the city's folder.
func (c *city) makeKey(name string) (file string, k keep.Key, err error) {
	k, private, err := pubkey.Make(pubkey.Ed25519, name, "")
	if err != nil {
		return "", k, err
	}
	file = filepath.Join(c.dir, "keys", name)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", k, err
	}
	return file, k, os.WriteFile(file, []byte(private.Reveal()), 0o600)
}
