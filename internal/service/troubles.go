package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/desk/checkup"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

const (
	// nearly is the part of a quota from which it counts as nearly full, and roomAgain the one below which it does no more.
	nearly, roomAgain = 0.9, 0.85
	// endsSoon is how long before its end an account or a key is worth a word.
	endsSoon = 7 * 24 * time.Hour
	// troublePace is how often the service looks for troubles.
	troublePace = 5 * time.Second
	// callPace is how often stores elsewhere are called for that.
	callPace = time.Minute
	// slowPace is how often all accounts, keys and certificates are looked at; checkupPace how often the whole check-up is made.
	slowPace, checkupPace = 10 * time.Minute, 24 * time.Hour
)

// checkupSetting is where it is kept when the check-up was made for the last time.
const checkupSetting = "checkup-made"

// trouble is what is wrong with something.
type trouble struct {
	kind keep.Reason
	of   string
}

// facts are what is said of a trouble.
type facts struct {
	says    string
	account string
}

// troubles finds out what is wrong, and records when it begins and when it is over.
type troubles struct {
	s      *Service
	wake   chan struct{}
	called time.Time // when stores elsewhere were called; of the goroutine that looks

	mu    sync.Mutex
	away  map[string]string // receivers of notices, and why
	stuck time.Time         // since when the trail can't be written; zero: it can
	slow  time.Time         // when what takes long was looked at
	held  map[trouble]facts // what that found
}

// watch looks for troubles until the service stops, and at once when something else is to be looked for.
func (t *troubles) watch(ctx context.Context) {
	tick := time.NewTicker(troublePace)
	defer tick.Stop()
	for {
		if err := errors.Join(t.look(ctx), t.s.noteEnds(ctx)); err != nil && ctx.Err() == nil {
			t.s.log.Error("the service could not look for troubles", "cause", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-t.wake:
		}
	}
}

// again has all looked at now.
func (t *troubles) again() {
	t.mu.Lock()
	t.slow = time.Time{}
	t.mu.Unlock()
	select {
	case t.wake <- struct{}{}:
	default:
	}
}

// receiver notes that a receiver of notices is away, or with "" that it is back.
func (t *troubles) receiver(name, why string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.away == nil {
		t.away = map[string]string{}
	}
	if t.away[name] = why; why == "" {
		delete(t.away, name)
	}
}

// look finds what is wrong now, and records what is new and what is over.
func (t *troubles) look(ctx context.Context) error {
	if t.trail() {
		return nil // nothing can be recorded
	}
	open, err := t.s.DB.Troubles(ctx)
	if err != nil {
		return err
	}
	known := map[trouble]records.OpenTrouble{}
	for _, o := range open {
		known[trouble{o.Kind, o.Of}] = o
	}
	now, err := t.find(ctx, known)
	if err != nil {
		return err
	}
	var errs []error
	for _, one := range sorted(now) {
		if _, was := known[one]; !was {
			errs = append(errs, t.begin(ctx, one, now[one]))
		}
	}
	for one, was := range known {
		if _, still := now[one]; !still && one.kind != keep.NotCome {
			errs = append(errs, t.end(ctx, was, ""))
		}
	}
	return errors.Join(append(errs, t.expect(ctx, known))...)
}

func sorted(found map[trouble]facts) []trouble {
	return slices.SortedFunc(maps.Keys(found), func(a, b trouble) int { return cmp.Or(cmp.Compare(a.kind, b.kind), cmp.Compare(a.of, b.of)) })
}

func (t *troubles) begin(ctx context.Context, one trouble, f facts) error {
	if one.kind == keep.QuotaNearly {
		store, folder, _ := strings.Cut(one.of, ":")
		if users := t.s.Office.UsersOf(store, folder); len(users) == 1 { // else it is nobody's own
			f.account = users[0]
		}
	}
	r := keep.AuditRecord{Account: f.account, Action: keep.Trouble, Target: one.of, Outcome: keep.Failed, Reason: one.kind, Detail: f.says}
	return t.s.Trail.Change(ctx, r, func(ctx context.Context) error {
		return t.s.DB.BeginTrouble(ctx, records.OpenTrouble{Kind: one.kind, Of: one.of, Says: f.says, Since: time.Now()})
	})
}

func (t *troubles) end(ctx context.Context, was records.OpenTrouble, account string) error {
	r := keep.AuditRecord{Account: account, Action: keep.TroubleOver, Target: was.Of, Outcome: keep.Done, Reason: was.Kind, Detail: was.Says}
	return t.s.Trail.Change(ctx, r, func(ctx context.Context) error { return t.s.DB.EndTrouble(ctx, was.Kind, was.Of) })
}

// trail tells at once that the audit trail can't be written, which no record can; it reports whether that is so.
func (t *troubles) trail() bool {
	why := t.s.Trail.Stuck()
	t.mu.Lock()
	since := t.stuck
	switch {
	case why != nil && since.IsZero():
		t.stuck = time.Now()
	case why == nil:
		t.stuck = time.Time{}
	}
	t.mu.Unlock()
	if why != nil && since.IsZero() {
		t.s.teller.Urgent(keep.AuditRecord{At: time.Now().UTC(), Action: keep.Trouble, Target: "audit", Outcome: keep.Failed, Reason: keep.TrailStuck,
			Detail: "the audit trail can't be written, so nothing is done: " + why.Error()})
	}
	if why == nil && !since.IsZero() {
		t.s.Trail.Note(keep.AuditRecord{Action: keep.TroubleOver, Target: "audit", Outcome: keep.Done, Reason: keep.TrailStuck,
			Detail: "the audit trail could not be written from " + since.UTC().Format("2006-01-02 15:04:05 UTC") + " on"})
	}
	return why != nil
}

// find is all that is wrong now, but for uploads that did not come.
func (t *troubles) find(ctx context.Context, known map[trouble]records.OpenTrouble) (map[trouble]facts, error) {
	s, found := t.s, map[trouble]facts{}
	stores, err := s.DB.Stores(ctx)
	if err != nil {
		return nil, err
	}
	room := checkup.Space("store", "data folder", s.dir)
	call := time.Since(t.called) > callPace || time.Since(t.called) < 0
	for _, one := range stores {
		h := s.Stores.Known(one)
		if one.Local() || call {
			h = s.Stores.Health(one)
		}
		if why := s.unwell(ctx, one, h); why != "" {
			found[trouble{keep.StoreAway, one.Name}] = facts{says: why}
		}
		if one.Local() && h.Space.Bytes > 0 {
			room = append(room, checkup.Room("store", one.Name, one.Folder, h.Space)...)
		}
	}
	if call {
		t.called = time.Now()
	}
	for _, f := range room {
		if f.State == checkup.Warning || f.State == checkup.Fault {
			found[trouble{keep.DiskNearly, f.Of}] = facts{says: f.Says}
		}
	}
	listeners, err := s.DB.Listeners(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range listeners {
		if why := s.Unable(l.Name); why != "" {
			found[trouble{keep.ListenerFailed, l.Name}] = facts{says: why}
		}
	}
	for _, use := range s.ledger.Uses() {
		one := trouble{keep.QuotaNearly, use.Store + ":" + use.Folder}
		limit := nearly
		if _, was := known[one]; was {
			limit = roomAgain
		}
		if part := fullness(use); !use.Counting && part >= limit {
			found[one] = facts{says: fmt.Sprintf("%s is full to %d %%: it holds %s and %d files", one.of, int(part*100), keep.SaySize(int64(use.Used.Bytes)), use.Used.Files)}
		}
	}
	t.mu.Lock()
	for name, why := range t.away {
		found[trouble{keep.ReceiverAway, name}] = facts{says: why}
	}
	maps.Copy(found, s.insync.troubles(s))
	due := t.slow.IsZero() || time.Since(t.slow) > slowPace || time.Since(t.slow) < 0
	t.mu.Unlock()
	if due {
		if err := t.findSlowly(ctx, known); err != nil {
			return nil, err
		}
	}
	maps.Copy(found, t.held)
	return found, nil
}

func fullness(use quota.Use) (most float64) {
	if use.Quota.Bytes > 0 {
		most = float64(use.Used.Bytes) / float64(use.Quota.Bytes)
	}
	if use.Quota.Files > 0 {
		most = max(most, float64(use.Used.Files)/float64(use.Quota.Files))
	}
	return most
}

// findSlowly looks at what need not be looked at so often.
func (t *troubles) findSlowly(ctx context.Context, known map[trouble]records.OpenTrouble) error {
	s, found, now := t.s, map[trouble]facts{}, time.Now()
	accounts, err := s.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	for _, a := range accounts {
		e, err := s.DB.Resolve(ctx, a)
		if err != nil {
			return err
		}
		if left := e.ValidUntil.Sub(now); !e.ValidUntil.IsZero() && left > 0 && left < endsSoon && e.State == keep.StateActive {
			found[trouble{keep.AccountEnds, a.Name}] = facts{says: "the account " + a.Name + " ends on " + e.ValidUntil.String(), account: a.Name}
		}
	}
	keys, err := s.DB.EndingKeys(ctx, now, now.Add(endsSoon))
	if err != nil {
		return err
	}
	for _, k := range keys {
		found[trouble{keep.KeyEnds, k.Account + " " + k.Fingerprint}] = facts{says: fmt.Sprintf("the key %s of %s ends on %s", cmp.Or(k.Label, k.Fingerprint), k.Account, k.Expires.UTC().Format(time.DateOnly)), account: k.Account}
	}
	for _, c := range s.Office.EndingCertificates() {
		found[trouble{keep.CertificateEnds, c.Name}] = facts{says: fmt.Sprintf("the certificate for %s ends on %s", strings.Join(c.Names, ", "), c.Until.UTC().Format(time.DateOnly))}
	}
	if err := t.checkup(ctx, known, found); err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.held, t.slow = found, now
	return nil
}

// checkup makes the check-up once a day; in between, what it found stays.
func (t *troubles) checkup(ctx context.Context, known map[trouble]records.OpenTrouble, found map[trouble]facts) error {
	text, err := t.s.DB.Setting(ctx, checkupSetting)
	if err != nil {
		return err
	}
	made, _ := time.Parse(time.RFC3339, text)
	if since := time.Since(made); since >= 0 && since < checkupPace || time.Since(t.s.started) < slowPace {
		for one, was := range known {
			if one.kind == keep.CheckupWarns {
				found[one] = facts{says: was.Says}
			}
		}
		return nil
	}
	all, err := t.s.Office.Checkup(ctx, keep.Manager)
	if err != nil {
		return err
	}
	for _, f := range all {
		if f.State == checkup.Warning || f.State == checkup.Fault {
			found[trouble{keep.CheckupWarns, strings.TrimSpace(f.Check + " " + f.Of)}] = facts{says: strings.TrimSpace(f.Check+" "+f.Of) + ": " + f.Says + ". To do: " + f.Do}
		}
	}
	return t.s.DB.SaveSetting(ctx, checkupSetting, time.Now().UTC().Format(time.RFC3339))
}

// expect looks whether uploads came that notices wait for.
func (t *troubles) expect(ctx context.Context, known map[trouble]records.OpenTrouble) error {
	notices, err := t.s.DB.Notices(ctx)
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for i := range notices {
		n := &notices[i]
		if n.Expect == nil || n.Off {
			continue
		}
		wanted[n.Name] = true
		m, err := n.Matcher()
		if err != nil {
			return err
		}
		names := n.Accounts
		if len(names) == 0 {
			names = []string{""}
		}
		for _, account := range names {
			if err := t.came(ctx, m, account, known); err != nil {
				return err
			}
		}
		due := n.Expect.Last(time.Now())
		if looked, err := t.s.DB.LookedAt(ctx, n.Name); err == nil && due.After(looked) {
			if err := t.s.DB.SetLookedAt(ctx, n.Name, due); err != nil && !errors.Is(err, records.ErrNotFound) {
				return err
			}
		}
	}
	for one, was := range known { // of notices that there are no more
		if name, _, _ := strings.Cut(one.of, " "); one.kind == keep.NotCome && !wanted[name] {
			if err := t.s.DB.EndTrouble(ctx, was.Kind, was.Of); err != nil {
				return err
			}
		}
	}
	return nil
}

// came looks whether the upload of an account came that a notice expects.
func (t *troubles) came(ctx context.Context, m *keep.Matcher, account string, known map[trouble]records.OpenTrouble) error {
	one := trouble{keep.NotCome, strings.TrimSpace(m.Name + " " + account)}
	due := m.Expect.Last(time.Now())
	if was, missing := known[one]; missing {
		late, err := t.s.Office.CameFor(ctx, m, account, was.Since, time.Now())
		if err != nil || late.IsZero() {
			return err
		}
		what, _ := m.Expected()
		was.Says = "the " + what + " for " + one.of + " came late, at " + late.UTC().Format("2006-01-02 15:04:05 UTC")
		delete(known, one)
		return t.overdue(ctx, keep.TroubleOver, m.Name, account, was.Says, func(ctx context.Context) error { return t.s.DB.EndTrouble(ctx, was.Kind, was.Of) })
	}
	looked, err := t.s.DB.LookedAt(ctx, m.Name)
	if err != nil || due.IsZero() || !due.After(looked) {
		return err
	}
	t.s.Trail.Settle(ctx)
	began := due.Add(-m.Expect.Within.Duration())
	came, err := t.s.Office.CameFor(ctx, m, account, began, time.Now())
	if err != nil || !came.IsZero() && !came.After(due) {
		return err
	}
	what, _ := m.Expected()
	says := fmt.Sprintf("no "+what+"%s came from %s to %s (%s)", of(account), began.Format("2006-01-02 15:04"), due.Format("2006-01-02 15:04 UTC"), strings.Join(m.Paths, ", "))
	return t.overdue(ctx, keep.Trouble, m.Name, account, strings.TrimSuffix(says, " ()"), func(ctx context.Context) error {
		return t.s.DB.BeginTrouble(ctx, records.OpenTrouble{Kind: keep.NotCome, Of: one.of, Says: says, Since: due})
	})
}

func of(account string) string {
	if account == "" {
		return ""
	}
	return " of " + account
}

// overdue records that an upload did not come, or came late; the target is the notice, which alone is meant.
func (t *troubles) overdue(ctx context.Context, action keep.Action, name, account, says string, save func(context.Context) error) error {
	r := keep.AuditRecord{Account: account, Action: action, Target: name, Outcome: keep.Failed, Reason: keep.NotCome, Detail: says}
	if action == keep.TroubleOver {
		r.Outcome = keep.Done
	}
	return t.s.Trail.Change(ctx, r, save)
}
