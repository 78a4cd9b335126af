package office

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/pubkey"
	"urbankeep/internal/records"
)

// A report answers a question that auditors ask, as a table.
type report struct {
	name  string
	about string // what it is asked about: "", "account" or "place"
	title string
	dated bool // it looks back so many days
	make  func(o *Office, ctx context.Context, ask ReportAsk) ([]string, [][]string, error)
}

// ReportAsk is what a report is asked for.
type ReportAsk struct {
	About string // an account, or STORE:PATH
	Since time.Time
	Now   time.Time
}

var reports = []report{
	{"readers", "place", "Who could read it now", false, (*Office).readers},
	{"touched", "place", "Who touched it", true, (*Office).touched},
	{"account", "account", "What an account did", true, (*Office).accountDeeds},
	{"refusals", "", "Refusals and failed sign-ins, by address", true, (*Office).refusals},
	{"unused", "", "Accounts and keys that nobody used", true, (*Office).unused},
	{"keys", "", "Keys that are shared, weak, old or expired", false, (*Office).badKeys},
	{"quotas", "", "Quotas that are nearly full", false, (*Office).fullQuotas},
	{"plain", "", "What went in clear, and who may go in clear", true, (*Office).inClear},
}

// mostRows bounds a report.
const mostRows = 1000

// Reports names the reports there are.
func Reports() []api.ReportKnown {
	known := make([]api.ReportKnown, len(reports))
	for i, r := range reports {
		known[i] = api.ReportKnown{Name: r.name, About: r.about, Title: r.title}
	}
	return known
}

// Report makes one.
func (o *Office) Report(ctx context.Context, name string, ask ReportAsk) (api.Report, error) {
	at := slices.IndexFunc(reports, func(r report) bool { return r.name == name })
	if at < 0 {
		return api.Report{}, keep.NoSuch("report", name)
	}
	r := reports[at]
	if (r.about != "") != (ask.About != "") {
		return api.Report{}, &keep.FieldError{Field: "about", Say: map[string]string{"": "this report is about nothing in particular: leave it out", "account": "name an account", "place": "name a file or folder of a store, as in files:shared/maps"}[r.about]}
	}
	columns, rows, err := r.make(o, ctx, ask)
	if rows == nil {
		rows = [][]string{}
	}
	shown := api.Report{Name: name, Title: r.title, Columns: columns, Rows: rows[:min(len(rows), mostRows)], Cut: len(rows) > mostRows}
	if r.dated {
		shown.Since = &ask.Since
	}
	if ask.About != "" {
		shown.Title += ": " + ask.About
	}
	return shown, err
}

// reach is a way in which an account gets to a place of a store.
type reach struct {
	account *keep.Effective
	policy  *keep.Policy
	at      string // in its tree
}

// reaches finds every account's ways to a place.
func (o *Office) reaches(ctx context.Context, place string) ([]reach, error) {
	store, folder, ok := strings.Cut(place, ":")
	if !ok {
		return nil, &keep.FieldError{Field: "about", Say: fmt.Sprintf("%q is not STORE:PATH, as in files:shared/maps", place)}
	}
	sought := path.Clean("/" + folder)
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return nil, err
	}
	var found []reach
	for _, a := range accounts {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return nil, err
		}
		policy := keep.NewPolicy(e)
		for _, m := range e.Mounts {
			begins := path.Clean("/" + m.FolderFor(e.Name))
			if m.Store != store || !keep.Covers(begins, sought) {
				continue
			}
			at := path.Join(m.At, strings.TrimPrefix(sought, begins))
			if over := policy.MountOf(at); over != nil && over.At == m.At { // no other mount hides it
				found = append(found, reach{e, policy, at})
			}
		}
	}
	return found, nil
}

func (o *Office) readers(ctx context.Context, ask ReportAsk) ([]string, [][]string, error) {
	ways, err := o.reaches(ctx, ask.About)
	var rows [][]string
	for _, w := range ways {
		verdict := w.policy.Decide(keep.Download, w.at, ask.Now)
		may, why := "yes", verdict.Explain()
		if !verdict.Allowed {
			may = "no"
		}
		if closed := w.account.Closed(ask.Now); closed != nil && verdict.Allowed {
			may, why = "not now", closed.Say+"; "+why
		}
		rows = append(rows, []string{w.account.Name, w.at, may, why})
	}
	slices.SortFunc(rows, func(a, b []string) int { return strings.Compare(b[2]+a[0], a[2]+b[0]) })
	return []string{"account", "as", "may", "why"}, rows, err
}

func (o *Office) touched(ctx context.Context, ask ReportAsk) ([]string, [][]string, error) {
	ways, err := o.reaches(ctx, ask.About)
	if err != nil {
		return nil, nil, err
	}
	var all []keep.AuditRecord
	for _, w := range ways {
		query := records.AuditQuery{Account: w.account.Name, PathBelow: w.at, Since: ask.Since, Limit: mostRows}
		for len(all) <= 10*mostRows {
			page, next, err := o.DB.SearchAudit(ctx, query)
			if err != nil {
				return nil, nil, err
			}
			all = append(all, page...)
			if query.Before = next; next == 0 || len(page) == mostRows {
				break
			}
		}
	}
	slices.SortFunc(all, func(a, b keep.AuditRecord) int { return int(b.Seq - a.Seq) })
	var rows [][]string
	for _, r := range all {
		rows = append(rows, []string{fmt.Sprint(r.Seq), moment(r.At), r.Account, r.Address, string(r.Action), r.Path, r.Target, ended(r.Outcome, r.Reason)})
	}
	return []string{"record", "time", "account", "from", "did", "path", "other end", "outcome"}, rows, nil
}

func (o *Office) accountDeeds(ctx context.Context, ask ReportAsk) ([]string, [][]string, error) {
	tally, err := o.DB.TallyAudit(ctx, records.AuditQuery{Account: ask.About, Since: ask.Since}, "address", "protocol", "encrypted", "action", "outcome", "reason")
	var rows [][]string
	for _, t := range tally {
		rows = append(rows, []string{t.Values[0], inWords(t.Values[1], t.Values[2]), t.Values[3], ended(keep.Outcome(t.Values[4]), keep.Reason(t.Values[5])), fmt.Sprint(t.Count), keep.SaySize(t.Bytes), moment(t.First), moment(t.Last)})
	}
	return []string{"from", "over", "did", "outcome", "times", "bytes", "first", "last"}, rows, err
}

func (o *Office) refusals(ctx context.Context, ask ReportAsk) ([]string, [][]string, error) {
	tally, err := o.DB.TallyAudit(ctx, records.AuditQuery{Outcome: string(keep.Refused), Since: ask.Since}, "address", "action", "reason", "account")
	var rows [][]string
	for _, t := range tally {
		rows = append(rows, []string{t.Values[0], t.Values[1], t.Values[2], t.Values[3], fmt.Sprint(t.Count), moment(t.First), moment(t.Last)})
	}
	return []string{"from", "tried", "reason", "account", "times", "first", "last"}, rows, err
}

func (o *Office) unused(ctx context.Context, ask ReportAsk) ([]string, [][]string, error) {
	accounts, keys, err := o.holders(ctx)
	var rows [][]string
	for _, a := range accounts {
		if a.LastSignIn.Before(ask.Since) && a.Created.Before(ask.Since) && !a.Anonymous() {
			rows = append(rows, []string{a.Name, "account", moment(a.LastSignIn), string(a.State)})
		}
		for _, k := range keys[a.ID] {
			if k.LastUsed.Before(ask.Since) && k.Added.Before(ask.Since) {
				rows = append(rows, []string{a.Name, "key " + k.Label, moment(k.LastUsed), k.Fingerprint})
			}
		}
	}
	return []string{"account", "what", "last used", "state"}, rows, err
}

// holders gives all accounts and the keys of each.
func (o *Office) holders(ctx context.Context) ([]*keep.Account, map[int64][]keep.Key, error) {
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return nil, nil, err
	}
	keys, err := o.DB.AllKeys(ctx)
	return accounts, keys, err
}

// oldKey is when a key should have been replaced.
const oldKey = 2 * 365 * 24 * time.Hour

func (o *Office) badKeys(ctx context.Context, ask ReportAsk) ([]string, [][]string, error) {
	accounts, keys, err := o.holders(ctx)
	if err != nil {
		return nil, nil, err
	}
	holders := map[string][]string{} // names, by fingerprint
	for _, a := range accounts {
		for _, k := range keys[a.ID] {
			holders[k.Fingerprint] = append(holders[k.Fingerprint], a.Name)
		}
	}
	var rows [][]string
	for _, a := range accounts {
		for _, k := range keys[a.ID] {
			say := func(what string) { rows = append(rows, []string{a.Name, k.Label, k.Fingerprint, what}) }
			others := slices.DeleteFunc(slices.Clone(holders[k.Fingerprint]), func(name string) bool { return name == a.Name })
			switch {
			case len(others) > 0 && k.Shelf != "":
				say("from the shelf, shared with " + listed(others, "account"))
			case len(others) > 0:
				say("shared with " + listed(others, "account"))
			}
			if k.Type == "ssh-rsa" && k.Bits < 3000 {
				say(fmt.Sprintf("weak: RSA of %d bits; %d are the least that is taken", k.Bits, pubkey.MinRSA))
			}
			if !k.Expires.IsZero() && k.Expires.Before(ask.Now) {
				say("expired on " + moment(k.Expires))
			}
			if age := ask.Now.Sub(k.Added); age > oldKey {
				say(fmt.Sprintf("old: it is there for %d days", int(age.Hours()/24)))
			}
		}
	}
	return []string{"account", "key", "fingerprint", "what"}, rows, nil
}

func (o *Office) inClear(ctx context.Context, ask ReportAsk) ([]string, [][]string, error) {
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return nil, nil, err
	}
	clear, err := o.DB.TallyAudit(ctx, records.AuditQuery{Protocol: string(keep.FTP), Actions: []keep.Action{keep.SignIn}, Outcome: string(keep.Done), Since: ask.Since}, "account", "encrypted")
	if err != nil {
		return nil, nil, err
	}
	went := map[string]records.Tally{}
	for _, t := range clear {
		if t.Values[1] == "0" {
			went[t.Values[0]] = t
		}
	}
	var rows [][]string
	for _, a := range accounts {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return nil, nil, err
		}
		t, did := went[e.Name]
		if e.Encryption != keep.EncryptionOptional && !did {
			continue
		}
		may := map[keep.Encryption]string{keep.EncryptionOptional: "on every FTP listener", keep.EncryptionRequired: "no", keep.EncryptionByListener: "where the listener lets it"}[e.Encryption]
		rows = append(rows, []string{e.Name, may, fmt.Sprint(t.Count), moment(t.Last)})
	}
	return []string{"account", "may go in clear", "sessions in clear", "last"}, rows, nil
}

func moment(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.UTC().Format("2006-01-02 15:04:05")
}

func ended(outcome keep.Outcome, reason keep.Reason) string {
	if reason == "" {
		return string(outcome)
	}
	return string(outcome) + ": " + string(reason)
}

func inWords(protocol, encrypted string) string {
	if protocol != "" && encrypted == "0" {
		return protocol + " in clear"
	}
	return protocol
}
