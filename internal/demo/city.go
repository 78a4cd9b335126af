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
	"urbankeep/internal/keys/pubkey"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/records"
	"urbankeep/internal/service"
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
	group                string
	home                 string // "" where the group brings one
	rights               keep.Rights
	settings             map[string]string
}

// The passwords stand in the README too: nothing real is behind them.
var citizens = []citizen{
	{name: "gauge-north", note: "Tide gauge at the north pier; speaks plain FTP only", password: "tide-north-4471", group: "instruments"},
	{name: "gauge-quay", note: "Tide gauge at the customs quay; speaks plain FTP only", password: "tide-quay-9120", group: "instruments"},
	{name: "gauge-lock", note: "Tide gauge at the canal lock; speaks plain FTP only", password: "tide-lock-3385", group: "instruments"},
	{name: "crew-harbour", note: "Field crew, harbour district", key: true, group: "crews"},
	{name: "crew-hillside", note: "Field crew, hillside district", key: true, group: "crews"},
	{name: "print-bureau", note: "Fetches plates for print, nightly", password: "plates-for-print-27", home: "shared/plates", rights: keep.List | keep.Download,
		settings: map[string]string{"signInBy": "password"}},
	{name: "drone-contractor", note: "Aerial survey until the end of the season", password: "high-over-selwyn-8", group: "partners",
		settings: map[string]string{"maxUpload": "1GiB"}},
	{name: keep.Anonymous, note: "Open tide tables, for everybody", home: "shared/tide-tables", rights: keep.List | keep.Download, settings: map[string]string{"encryption": "optional"}},
	{name: "records-desk", note: "Sees everything", password: "ledger-of-selwyn-1", key: true, home: "/", rights: keep.Full,
		settings: map[string]string{"binTime": "14d", "passes": "both"}},
}

// groups are what citizens have in common.
var groups = []struct {
	name, note     string
	mounts, grants []string
	settings       map[string]string
}{
	{"instruments", "Gauges that push a reading every quarter of an hour", []string{"/=files:{group}/{account}"}, []string{"/=drop-only;never=*.exe"},
		map[string]string{"signInBy": "password", "protocols": "ftp", "encryption": "optional", "quotaBytes": "4MiB", "quotaFiles": "5000", "maxSessions": "2"}},
	{"crews", "Field crews with scanners and tablets", []string{"/=files:{group}/{account}", "/basemaps=files:shared/basemaps,ro"}, []string{"/=full"},
		map[string]string{"signInBy": "key", "protocols": "sftp", "quotaBytes": "20GiB", "starters": "/scans,/notes", "speedUp": "8MiB"}},
	{"surveyors", "Surveyors of the city hall, who come from its directory", []string{"/=files:{group}/{account}", "/basemaps=files:shared/basemaps,ro"}, []string{"/=full"},
		map[string]string{"quotaBytes": "2GiB"}},
	{"partners", "Outside firms; their access ends", []string{"/=files:{group}/{account}"}, []string{"/=add-only", "/briefings=read-only;days=mon-fri;hours=07:00-19:00"},
		map[string]string{"signInBy": "password", "encryption": "required", "quotaBytes": "256MiB", "maxSessions": "4", "idleTime": "10m"}},
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
	dir    string
	now    time.Time
	papers papers
}

// papers are what everybody signs in with.
type papers struct {
	Accounts  []map[string]string `json:"accounts"`
	Operators []map[string]string `json:"operators"`
	Passes    []map[string]string `json:"passes"`
	Directory []map[string]string `json:"directory"` // who signs in by the city hall's
}

// save puts them into a file.
func (c *city) save() error {
	text, err := json.MarshalIndent(c.papers, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(c.dir, credentialsFile), append(text, '\n'), 0o600)
}

func newCity(dir string) *city { return &city{dir: dir, now: time.Now().UTC().Truncate(time.Minute)} }

// founded is when the accounts were made.
func (c *city) founded() time.Time {
	return c.now.AddDate(0, 0, -15).Truncate(24 * time.Hour).Add(9 * time.Hour)
}

// build makes operators, accounts, files and history.
func (c *city) build(ctx context.Context, s *service.Service) error {
	hasher := passwords.NewHasher()
	for _, o := range operators {
		hash, err := hasher.Hash(ctx, keep.Secret(o.password))
		if err != nil {
			return err
		}
		if err := s.DB.AddOperator(ctx, &keep.Operator{Name: o.name, Role: o.role, PasswordHash: hash, Created: c.founded()}); err != nil {
			return err
		}
		c.papers.Operators = append(c.papers.Operators, map[string]string{"operator": o.name, "password": o.password})
	}
	if err := c.found(ctx, s); err != nil {
		return err
	}
	for _, who := range citizens {
		paper, err := c.settle(ctx, s, hasher, who)
		if err != nil {
			return fmt.Errorf("account %s: %w", who.name, err)
		}
		c.papers.Accounts = append(c.papers.Accounts, paper)
	}
	if err := c.save(); err != nil {
		return err
	}
	if err := c.furnish(); err != nil {
		return err
	}
	if err := c.measure(ctx, s); err != nil {
		return err
	}
	if err := s.Office.Arrange(ctx); err != nil {
		return err
	}
	return c.remember(s)
}

// settle makes one account and gives what it signs in with.
func (c *city) settle(ctx context.Context, s *service.Service, hasher *passwords.Hasher, who citizen) (map[string]string, error) {
	paper := map[string]string{"account": who.name}
	a := &keep.Account{Name: who.name, Note: who.note, State: keep.StateActive, Created: c.founded(), Changed: c.founded(), Furnished: true}
	if who.group != "" {
		a.Groups = []string{who.group}
	}
	if who.home != "" {
		a.Mounts = []keep.Mount{{At: "/", Store: "files", Folder: who.home}}
		a.Grants = []keep.Grant{{Path: "/", Rights: who.rights}}
	}
	for name, text := range who.settings {
		if err := a.Settings.PutText(name, text); err != nil {
			return nil, err
		}
	}
	if who.group == "partners" {
		a.Settings.ValidUntil = &keep.Moment{Time: c.now.AddDate(0, 0, 9).Truncate(24 * time.Hour)}
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

// found makes the groups.
func (c *city) found(ctx context.Context, s *service.Service) error {
	for _, one := range groups {
		g := &keep.Group{Name: one.name, Note: one.note, Created: c.founded(), Changed: c.founded()}
		for _, text := range one.mounts {
			m, err := keep.ParseMount(text)
			if err != nil {
				return err
			}
			g.Mounts = append(g.Mounts, m)
		}
		for _, text := range one.grants {
			grant, err := keep.ParseGrant(text)
			if err != nil {
				return err
			}
			g.Grants = append(g.Grants, grant)
		}
		for name, text := range one.settings {
			if err := g.Settings.PutText(name, text); err != nil {
				return err
			}
		}
		if err := g.Check(); err != nil {
			return err
		}
		if err := s.DB.SaveGroup(ctx, g); err != nil {
			return err
		}
	}
	return nil
}

// measure remembers what the folders with a quota held in the past two weeks.
func (c *city) measure(ctx context.Context, s *service.Service) error {
	for hour := days * 24; hour > 0; hour -= 6 {
		at := c.now.Add(-time.Duration(hour) * time.Hour).Truncate(time.Hour)
		part := float64(days*24-hour) / (days * 24) // of the two weeks, gone by
		flights := int64(1 + 4*part)
		for folder, held := range map[string]records.PlaceSample{
			"partners/drone-contractor": {Bytes: flights * flightSize, Files: flights},
			"instruments/gauge-north":   {Bytes: int64(part * 24 * 640), Files: int64(part * 24)},
			"instruments/gauge-quay":    {Bytes: int64(part * 24 * 640), Files: int64(part * 24)},
			"instruments/gauge-lock":    {Bytes: int64(part * 24 * 640), Files: int64(part * 24)},
		} {
			held.Time = at
			if err := s.DB.AddPlaceSample(ctx, "files", folder, held); err != nil {
				return err
			}
		}
	}
	return nil
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
