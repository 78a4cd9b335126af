package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/service"
	"urbankeep/internal/watch/audit"
)

// trails are two made-up trails of different lengths; nil until they are needed.
type trails struct {
	few, many *records.DB
	on, off   *service.Service // with and without a trail
}

func (t *trails) close() {
	for _, db := range []*records.DB{t.few, t.many} {
		if db != nil {
			db.Close()
		}
	}
	for _, s := range []*service.Service{t.on, t.off} {
		if s != nil {
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			s.Stop(ctx)
			cancel()
		}
	}
}

var begin = time.Date(2025, 11, 1, 0, 0, 0, 0, time.UTC)

// recordOf makes up record n of a trail of so many, which covers a year.
func recordOf(random *rand.Rand, n, of int) keep.AuditRecord {
	account := random.IntN(400)
	r := keep.AuditRecord{At: begin.Add(time.Duration(float64(n) / float64(of) * float64(365*24*time.Hour))), Account: fmt.Sprintf("gauge-%03d", account),
		Address: fmt.Sprintf("192.0.%d.%d", account%4, account%250), Protocol: []keep.Protocol{keep.FTP, keep.FTPS, keep.SFTP, keep.SFTP}[account%4], Encrypted: account%4 > 0,
		Session: fmt.Sprintf("%012X", n/4), Outcome: keep.Done}
	switch n % 4 {
	case 0:
		r.Action = keep.SignIn
	case 3:
		r.Action = keep.SignOut
	default:
		r.Action, r.Path, r.Bytes, r.Duration = keep.Uploading, fmt.Sprintf("/district-%02d/%d/scan-%08d.las", account%60, 1+n%12, n), int64(random.IntN(1<<20)), time.Duration(random.IntN(1e9))
	}
	switch {
	case n%1000 == 500:
		r.Outcome, r.Reason = keep.Refused, keep.NoRight
	case n%20_000 == 777:
		r.Account, r.Operator, r.Action, r.Path, r.Target = "", "ilse", keep.AccountSet, "", "gauge-001"
	}
	return r
}

// build writes a trail as the service does.
func build(dir string, n int) (*records.DB, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	ctx := context.Background()
	db, err := records.Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	seal, err := audit.OpenSeal(dir)
	if err != nil {
		return nil, err
	}
	journal, err := audit.OpenJournal(dir)
	if err != nil {
		return nil, err
	}
	trail, err := audit.Open(ctx, db, audit.Options{Journal: journal, Seal: seal, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, err
	}
	random := rand.New(rand.NewPCG(1, 2))
	for i := range n {
		trail.Note(recordOf(random, i, n))
	}
	trail.Close()
	return db, nil
}

func (w *world) needTrails() (err error) {
	if w.trails.many != nil {
		return nil
	}
	if w.trails.few, err = build(filepath.Join(w.dir, "few"), fewRecords); err == nil {
		w.trails.many, err = build(filepath.Join(w.dir, "many"), manyRecords)
	}
	return err
}

// searches are one of each kind, with what is often found, seldom and never.
func searches() map[string]records.AuditQuery {
	middle, networks := begin.AddDate(0, 6, 0), func(text string) keep.Networks {
		found, _ := keep.ParseNetworks("network", text)
		return found
	}
	return map[string]records.AuditQuery{
		"account":             {Account: "gauge-123"},
		"operator":            {Operator: "ilse"},
		"address":             {Address: "192.0.2.122"},
		"network":             {Networks: networks("192.0.2.0/26")},
		"network, nobody's":   {Networks: networks("198.51.100.0/24")},
		"protocol":            {Protocol: "ftps"},
		"action":              {Actions: []keep.Action{keep.Uploading}},
		"two actions":         {Actions: []keep.Action{keep.AccountSet, keep.KeyAdd}},
		"outcome":             {Outcome: "refused"},
		"reason":              {Reason: "no-right", Outcome: "refused"},
		"session":             {Session: "000000012345"},
		"path and below":      {PathBelow: "/district-07"},
		"part of a path":      {PathHas: "scan-00500001"},
		"any text":            {Text: "no such word"},
		"a day":               {Since: middle, Until: middle.AddDate(0, 0, 1)},
		"account, path, day":  {Account: "gauge-123", PathBelow: "/district-03", Since: middle, Until: middle.AddDate(0, 0, 1)},
		"account and outcome": {Account: "gauge-100", Outcome: "refused"},
		"everything":          {},
	}
}

func (w *world) trailRows() []row {
	rows := []row{{name: "audit trail: records written", unit: "per s", target: 0.5,
		ours: func() (float64, error) { return w.written(true) }, floor: func() (float64, error) { return w.written(false) }}}
	for _, name := range []string{"everything", "account", "operator", "address", "network", "network, nobody's", "protocol", "action", "two actions", "outcome", "reason", "session", "path and below",
		"part of a path", "any text", "a day", "account, path, day", "account and outcome"} {
		q := searches()[name]
		q.Limit = 100
		search := func(db **records.DB) func() (float64, error) {
			return func() (float64, error) {
				if err := w.needTrails(); err != nil {
					return 0, err
				}
				started := time.Now()
				_, _, err := (*db).SearchAudit(context.Background(), q)
				return float64(time.Since(started).Microseconds()) / 1000, err
			}
		}
		rows = append(rows, row{name: "audit search, 10M against 1M: " + name, unit: "ms", target: 3, less: true, most: 100, turns: 9, ours: search(&w.trails.many), floor: search(&w.trails.few)})
	}
	return append(rows,
		row{name: "audit trail, 10M: verified", unit: "per s", turns: 1, ours: w.verified, floor: w.justRead},
		row{name: "audit trail, 1M: exported as CSV", unit: "per s", ours: w.exported, floor: w.justRead},
		row{name: "audit trail: size of a record, against JSON", unit: "B", less: true, turns: 1, ours: w.sizeOfRecord, floor: w.sizeAsJSON},
		row{name: "sftp upload of 4 KiB files, trail on and off", unit: "files/s", target: 0.95, turns: 25, // many short ones: the machine's moods are larger than what is looked for
			ours:  func() (float64, error) { return w.audited(&w.trails.on, nil) },
			floor: func() (float64, error) { return w.audited(&w.trails.off, nothing{}) }})
}

// written writes records with chain and queue, or straight into the table.
func (w *world) written(chained bool) (float64, error) {
	dir, err := os.MkdirTemp(w.dir, "written")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	return timed(someRecords, func() error {
		if chained {
			db, err := build(dir, someRecords)
			if err != nil {
				return err
			}
			return db.Close()
		}
		db, err := records.Open(context.Background(), dir)
		if err != nil {
			return err
		}
		random := rand.New(rand.NewPCG(1, 2))
		batch := []records.ChainedRecord{}
		for i := range someRecords {
			r := recordOf(random, i, someRecords)
			r.Seq = int64(i + 1)
			if batch = append(batch, records.ChainedRecord{AuditRecord: r, Prev: audit.Genesis, Digest: audit.Genesis}); len(batch) == 512 || i == someRecords-1 {
				if err := db.AppendAudit(context.Background(), batch); err != nil {
					return err
				}
				batch = batch[:0]
			}
		}
		return db.Close()
	})
}

func (w *world) verified() (float64, error) {
	if err := w.needTrails(); err != nil {
		return 0, err
	}
	seal, err := audit.OpenSeal(filepath.Join(w.dir, "many"))
	if err != nil {
		return 0, err
	}
	return timed(manyRecords, func() error {
		report, err := audit.Verify(context.Background(), w.trails.many, audit.Check{Seal: seal})
		if err == nil && report.BadSeq != 0 {
			err = fmt.Errorf("%s", report.Problem)
		}
		return err
	})
}

// justRead reads the shorter trail, one page after the other.
func (w *world) justRead() (float64, error) {
	if err := w.needTrails(); err != nil {
		return 0, err
	}
	return timed(fewRecords, func() error {
		for at := int64(0); ; {
			page, err := w.trails.few.AuditAfter(context.Background(), at, 2000)
			if err != nil || len(page) == 0 {
				return err
			}
			at = page[len(page)-1].Seq
		}
	})
}

// exported streams the shorter trail from a service on it.
func (w *world) exported() (float64, error) {
	if err := w.needTrails(); err != nil {
		return 0, err
	}
	w.trails.few.Close()
	defer func() { w.trails.few, _ = records.Open(context.Background(), filepath.Join(w.dir, "few")) }()
	s, err := w.serve(filepath.Join(w.dir, "few"), nil)
	if err != nil {
		return 0, err
	}
	defer s.Stop(context.Background())
	return timed(fewRecords, func() error {
		response, err := control(filepath.Join(w.dir, "few")).Get("http://control/api/v1/audit/export?format=csv")
		if err != nil {
			return err
		}
		defer response.Body.Close()
		_, err = io.Copy(io.Discard, response.Body)
		return err
	})
}

// control speaks to the service on a data folder.
func control(dir string) *http.Client {
	return &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", filepath.Join(dir, "control.sock"))
	}}}
}

func (w *world) sizeOfRecord() (float64, error) {
	if err := w.needTrails(); err != nil {
		return 0, err
	}
	info, err := os.Stat(filepath.Join(w.dir, "many", "urbankeep.db"))
	if err != nil {
		return 0, err
	}
	return float64(info.Size()) / float64(manyRecords), nil
}

func (w *world) sizeAsJSON() (float64, error) {
	format, err := audit.FormatNamed("jsonl")
	if err != nil {
		return 0, err
	}
	random, text := rand.New(rand.NewPCG(1, 2)), strings.Builder{}
	for i := range someRecords {
		r := recordOf(random, i, someRecords)
		if err := format.Line(&text, &r); err != nil {
			return 0, err
		}
	}
	return float64(text.Len()) / float64(someRecords), nil
}

// nothing is a ledger that keeps nothing: what it costs to keep a trail is measured
// against it.
type nothing struct{}

func (nothing) AppendAudit(context.Context, []records.ChainedRecord) error { return nil }
func (nothing) LastAudit(context.Context) (records.ChainedRecord, error) {
	return records.ChainedRecord{}, records.ErrNotFound
}
func (nothing) AuditAfter(context.Context, int64, int) ([]records.ChainedRecord, error) {
	return nil, nil
}
func (nothing) AuditGaps(context.Context) ([]records.AuditGap, error)    { return nil, nil }
func (nothing) Setting(context.Context, string) (string, error)          { return "", nil }
func (nothing) SaveSetting(context.Context, string, string) error        { return nil }
func (nothing) Archives(context.Context) ([]records.AuditArchive, error) { return nil, nil }

// serve runs a service in this process.
func (w *world) serve(dir string, ledger audit.Ledger) (*service.Service, error) {
	ctx := context.Background()
	s, err := service.Open(ctx, service.Options{Dir: dir, Console: "127.0.0.1:0", FTP: "127.0.0.1:0", FTPS: "127.0.0.1:0", SFTP: "127.0.0.1:0", PassiveLow: 49200, PassiveHigh: 49299,
		Ledger: ledger, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, err
	}
	return s, s.Start(ctx)
}

func (w *world) audited(s **service.Service, ledger audit.Ledger) (float64, error) {
	if err := w.makeSmall(); err != nil {
		return 0, err
	}
	if *s == nil {
		dir := filepath.Join(w.dir, fmt.Sprintf("audited-%t", ledger == nil))
		var err error
		if *s, err = w.serve(dir, ledger); err != nil {
			return 0, err
		}
		add := exec.Command("bin/urbankeep", "account", "add", "crew", "-home", "files:crew", "-key", w.key+".pub", "-data", dir)
		if out, err := add.CombinedOutput(); err != nil {
			return 0, fmt.Errorf("%w: %s", err, out)
		}
	}
	to := w.fresh("audited")
	return timed(smallFiles*2/5, func() error { return w.sftp((*s).Address("sftp"), "mkdir "+to, "put "+w.small+"/f[0-1]* "+to+"/") })
}
