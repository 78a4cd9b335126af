package office

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/notice"
)

// mailSetting and mailPassword are where the mail server is kept.
const (
	mailSetting  = "mail"
	mailPassword = "mail-password"
)

// MailServer is where mail is handed in.
func (o *Office) MailServer(ctx context.Context) (m keep.MailServer, err error) {
	text, err := o.DB.Setting(ctx, mailSetting)
	if err != nil || text == "" {
		return m, err
	}
	if err := json.Unmarshal([]byte(text), &m); err != nil {
		return m, err
	}
	password, err := o.DB.Setting(ctx, mailPassword)
	m.Password = keep.Secret(password)
	return m, err
}

// SetMailServer changes it; a password of nil stays what it is.
func (o *Office) SetMailServer(ctx context.Context, who Actor, m keep.MailServer, password *keep.Secret) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.MailServer(ctx)
	if err != nil {
		return err
	}
	if m.Password = before.Password; password != nil {
		m.Password = *password
	}
	if m.User == "" && password == nil {
		m.Password = ""
	}
	if m.Host != before.Host && before.Password != "" && password == nil && m.Password != "" {
		return &keep.FieldError{Field: "password", Say: "give the password again: the one that is kept was for another server"}
	}
	if err := m.Check(); err != nil {
		return err
	}
	if m.Trust != "" && !isCertificate(m.Trust) {
		return errNoCertificate
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	detail := "nowhere"
	if m.Host != "" {
		detail = fmt.Sprintf("%s:%d, %s, from %s", m.Host, m.Port, m.Security, m.From)
	}
	return o.recorded(ctx, who, keep.MailSet, "", detail, func(ctx context.Context) error {
		return errors.Join(o.DB.SaveSetting(ctx, mailSetting, string(text)), o.DB.SaveSetting(ctx, mailPassword, m.Password.Reveal()))
	})
}

// TryMail hands in a mail as a test.
func (o *Office) TryMail(ctx context.Context, to string) (string, error) {
	to, err := keep.CheckMail("to", to)
	if err != nil {
		return "", err
	}
	server, err := o.MailServer(ctx)
	if err == nil && server.Host == "" {
		err = &keep.FieldError{Field: "to", Say: notice.ErrNoMail.Error()}
	}
	if err != nil {
		return "", err
	}
	said, err := o.Teller.TryMail(ctx, server, to)
	if err != nil {
		return "", &keep.FieldError{Field: "to", Say: err.Error()}
	}
	return said, nil
}

func isCertificate(pem string) bool { return x509.NewCertPool().AppendCertsFromPEM([]byte(pem)) }

var errNoCertificate = &keep.FieldError{Field: "trust", Say: "that is no certificate: give the PEM file of the authority that signed the other side's"}

// SetReceiver makes a receiver, or changes one. Edit is given the receiver as it is; the secret is made where there is none.
// secret is given when it is new.
func (o *Office) SetReceiver(ctx context.Context, who Actor, name string, add bool, edit func(*keep.Receiver) error) (r keep.Receiver, secret keep.Secret, err error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.DB.Receiver(ctx, name)
	switch {
	case errors.Is(err, records.ErrNotFound) && !add, err == nil && before.Account != "":
		return r, "", keep.NoSuch("receiver", name)
	case err == nil && add:
		return r, "", errNameTaken
	case err != nil && !errors.Is(err, records.ErrNotFound):
		return r, "", err
	}
	r = before
	r.Headers = slices.Clone(before.Headers)
	r.Name = name
	if err := edit(&r); err != nil {
		return r, "", err
	}
	if r.Kind == keep.WebCall && r.Secret == "" {
		random := make([]byte, 32)
		rand.Read(random)
		r.Secret = keep.NewSigningSecret(random)
	}
	if err := r.Check(); err != nil {
		return r, "", err
	}
	if r.Trust != "" && !isCertificate(r.Trust) {
		return r, "", errNoCertificate
	}
	if r.Body != "" {
		if _, err := notice.ParseBody(r.Body); err != nil {
			return r, "", err
		}
	}
	if who.Role != keep.Owner && r.Private && (!before.Private || before.URL != r.URL) {
		return r, "", &keep.FieldError{Field: "private", Say: "only an owner may let notices into this machine's or a private network"}
	}
	if before.URL != "" && before.URL != r.URL && len(r.Headers) > 0 && slices.EqualFunc(r.Headers, before.Headers, func(a, b keep.Header) bool { return a == b }) {
		return r, "", &keep.FieldError{Field: "headers", Say: "give the headers again: the values that are kept were for another address"}
	}
	action := keep.ReceiverSet
	if add {
		action = keep.ReceiverAdd
		all, err := o.DB.Receivers(ctx)
		if err != nil {
			return r, "", err
		}
		if len(all) >= keep.MaxReceivers {
			return r, "", &keep.FieldError{Field: "name", Say: fmt.Sprintf("there are %d receivers, as many as there may be: remove some first", len(all))}
		}
	}
	if err := o.saveReceiver(ctx, who, action, r, before.Off && !r.Off); err != nil {
		return r, "", err
	}
	if r.Secret != before.Secret {
		secret = r.Secret
	}
	return r, secret, nil
}

func (o *Office) saveReceiver(ctx context.Context, who Actor, action keep.Action, r keep.Receiver, skip bool) error {
	newest, err := o.DB.LastAudit(ctx)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	where := r.URL
	if r.Kind == keep.MailMessage {
		where = strings.Join(r.To, ", ")
	}
	err = o.recorded(ctx, who, action, r.Name, string(r.Kind)+" "+where, func(ctx context.Context) error {
		err := o.DB.SaveReceiver(ctx, r, newest.Seq)
		if err == nil && skip {
			err = o.DB.SkipReceiver(ctx, r.Name, newest.Seq)
		}
		return err
	})
	if err != nil {
		return err
	}
	return o.Teller.Arrange(ctx)
}

// RemoveReceiver forgets a receiver that no notice needs.
func (o *Office) RemoveReceiver(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	r, err := o.DB.Receiver(ctx, name)
	if errors.Is(err, records.ErrNotFound) || err == nil && r.Account != "" {
		return keep.NoSuch("receiver", name)
	}
	if err != nil {
		return err
	}
	notices, err := o.DB.Notices(ctx)
	if err != nil {
		return err
	}
	var needed []string
	for _, n := range notices {
		if n.Account == "" && slices.Contains(n.Receivers, name) {
			needed = append(needed, n.Name)
		}
	}
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	groups, err := o.DB.Groups(ctx)
	if err != nil {
		return err
	}
	checks := func(mounts []keep.Mount) bool {
		return slices.ContainsFunc(mounts, func(m keep.Mount) bool { return m.Check != nil && m.Check.Receiver == name })
	}
	for _, a := range accounts {
		if checks(a.Mounts) {
			needed = append(needed, "account "+a.Name)
		}
	}
	for _, g := range groups {
		if checks(g.Mounts) {
			needed = append(needed, "group "+g.Name)
		}
	}
	if len(needed) > 0 {
		return keep.Refuse(keep.InUse, "it is needed by "+strings.Join(needed, ", ")+": change or remove those first")
	}
	if err := o.recorded(ctx, who, keep.ReceiverRemove, name, string(r.Kind), func(ctx context.Context) error { return o.DB.DropReceiver(ctx, name) }); err != nil {
		return err
	}
	return o.Teller.Arrange(ctx)
}

// TryReceiver tells a receiver something that did not happen.
func (o *Office) TryReceiver(ctx context.Context, r keep.Receiver, notices []string, event keep.Event) notice.Answer {
	return o.Teller.Try(ctx, r, sampleOf(event), notices)
}

// sampleOf is a record as one of an event could be.
func sampleOf(event keep.Event) keep.AuditRecord {
	r := keep.AuditRecord{At: time.Now().UTC().Truncate(time.Microsecond), Outcome: keep.Done, Action: keep.ActionsOf([]keep.Event{event})[0]}
	f := keep.FactsOf(event)
	if f.People {
		r.Account, r.Address, r.Protocol, r.Encrypted = "sample", "192.0.2.7", keep.SFTP, true
	}
	if f.Files {
		r.Path, r.Bytes = "/sample/file.csv", 1234
	}
	switch event {
	case keep.EventRename:
		r.Target = "/sample/new.csv"
	case keep.EventCutOff:
		r.Outcome, r.Reason = keep.Interrupted, keep.ClientGone
	case keep.EventSignInRefused:
		r.Outcome, r.Reason, r.Detail = keep.Refused, keep.BadCredentials, "wrong name, password or key"
	case keep.EventOverwrite:
		r.SetReplaced()
	}
	if r.Action == keep.Trouble || r.Action == keep.TroubleOver {
		r.Outcome, r.Reason, r.Target, r.Detail = keep.Failed, keep.Reason(event), "sample", f.Says
	}
	return r
}

// SetNotice makes a notice of operators, or changes one. Edit is given the notice as it is.
func (o *Office) SetNotice(ctx context.Context, who Actor, name string, add bool, edit func(*keep.Notice) error) (keep.Notice, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	n, all, err := o.noticeNamed(ctx, name)
	switch {
	case err != nil && !errors.Is(err, records.ErrNotFound):
		return n, err
	case err != nil && !add, err == nil && n.Account != "":
		return n, keep.NoSuch("notice", name)
	case err == nil && add:
		return n, errNameTaken
	case add && len(all) >= keep.MaxNotices:
		return n, &keep.FieldError{Field: "name", Say: fmt.Sprintf("there are %d notices, as many as there may be: remove some first", len(all))}
	}
	n.Name = name
	if err := edit(&n); err != nil {
		return n, err
	}
	action := keep.NoticeSet
	if add {
		action = keep.NoticeAdd
	}
	return n, o.saveNotice(ctx, who, action, &n)
}

// noticeNamed finds a notice, and all of its kind.
func (o *Office) noticeNamed(ctx context.Context, name string) (n keep.Notice, all []keep.Notice, err error) {
	found, err := o.DB.Notices(ctx)
	if err != nil {
		return n, nil, err
	}
	err = records.ErrNotFound
	for _, one := range found {
		if one.Account == "" {
			all = append(all, one)
		}
		if one.Name == name {
			n, err = one, nil
		}
	}
	return n, all, err
}

func (o *Office) saveNotice(ctx context.Context, who Actor, action keep.Action, n *keep.Notice) error {
	if err := o.CheckNotice(ctx, n); err != nil {
		return err
	}
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if err := o.recorded(ctx, who, action, n.Name, string(text), func(ctx context.Context) error { return o.DB.SaveNotice(ctx, *n, time.Now()) }); err != nil {
		return err
	}
	if err := o.Teller.Arrange(ctx); err != nil {
		return err
	}
	o.Live.Expect()
	return nil
}

// DecideHeld lets an upload in that waits for its check, or refuses it.
func (o *Office) DecideHeld(who Actor, id string, answer keep.CheckAnswer, reason string) error {
	if answer != keep.CheckYes && answer != keep.CheckNo {
		return &keep.FieldError{Field: "answer", Say: "use yes or no"}
	}
	if len(reason) > maxReason {
		return &keep.FieldError{Field: "reason", Say: fmt.Sprintf("use at most %d bytes", maxReason)}
	}
	said := string(answer) + ", says the operator " + who.Operator
	if reason != "" {
		said += ": " + reason
	}
	return o.Live.DecideHeld(id, answer, said)
}

// CheckNotice refuses a notice that is wrong, names what there is not, or could never happen.
func (o *Office) CheckNotice(ctx context.Context, n *keep.Notice) error {
	if err := n.Check(); err != nil {
		return err
	}
	receivers, err := o.DB.Receivers(ctx)
	if err != nil {
		return err
	}
	for _, name := range n.Receivers {
		if !slices.ContainsFunc(receivers, func(r keep.Receiver) bool { return r.Name == name && r.Account == n.Account }) {
			return &keep.FieldError{Field: "receivers", Say: fmt.Sprintf("no receiver is named %s: receiver list shows the ones there are, receiver add makes one", name)}
		}
	}
	for _, name := range n.Groups {
		if _, err := o.DB.Group(ctx, name); err != nil {
			return fieldOf(err, "groups", "it would never happen: no group is named "+name)
		}
	}
	if n.Account != "" {
		return nil
	}
	var could []*keep.Effective
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	for i, pattern := range n.Accounts {
		known := false
		for _, a := range accounts {
			known = known || keep.Like(pattern, a.Name)
		}
		if !known {
			return &keep.FieldError{Field: "accounts", Say: fmt.Sprintf("it would never happen: no account fits %s", n.Accounts[i])}
		}
	}
	if len(n.Accounts)+len(n.Groups) == 0 {
		return nil
	}
	for _, a := range accounts {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return err
		}
		if (len(n.Accounts) == 0 || slices.ContainsFunc(n.Accounts, func(p string) bool { return keep.Like(p, a.Name) })) &&
			(len(n.Groups) == 0 || slices.ContainsFunc(n.Groups, func(g string) bool { return slices.Contains(a.Groups, g) })) {
			could = append(could, e)
		}
	}
	if len(n.Accounts) > 0 && len(could) == 0 {
		return &keep.FieldError{Field: "groups", Say: "it would never happen: no account is meant by both accounts and groups"}
	}
	if len(n.Protocols) > 0 && len(could) > 0 && !slices.ContainsFunc(could, func(e *keep.Effective) bool {
		return slices.ContainsFunc(n.Protocols, func(p keep.Protocol) bool { return e.MayUse(p) || p == keep.ByPass })
	}) {
		return &keep.FieldError{Field: "protocols", Say: "it would never happen: none of the accounts may use one of the protocols"}
	}
	return nil
}

// RemoveNotice forgets a notice of operators.
func (o *Office) RemoveNotice(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	n, _, err := o.noticeNamed(ctx, name)
	if errors.Is(err, records.ErrNotFound) || err == nil && n.Account != "" {
		return keep.NoSuch("notice", name)
	}
	if err != nil {
		return err
	}
	return o.dropNotice(ctx, who, name)
}

func (o *Office) dropNotice(ctx context.Context, who Actor, name string) error {
	if err := o.recorded(ctx, who, keep.NoticeRemove, name, "", func(ctx context.Context) error { return o.DB.DropNotice(ctx, name) }); err != nil {
		return err
	}
	return o.Teller.Arrange(ctx)
}

// Notice finds a notice of operators.
func (o *Office) Notice(ctx context.Context, name string) (keep.Notice, error) {
	n, _, err := o.noticeNamed(ctx, name)
	if errors.Is(err, records.ErrNotFound) || err == nil && n.Account != "" {
		return n, keep.NoSuch("notice", name)
	}
	return n, err
}

// RetryReceiver has a receiver tried at once, and with what was set aside: one thing of it, or all when id is 0. It says how
// much of that there is.
func (o *Office) RetryReceiver(ctx context.Context, who Actor, name string, id int64) (n int64, err error) {
	if _, err := o.DB.Receiver(ctx, name); err != nil {
		if errors.Is(err, records.ErrNotFound) {
			err = keep.NoSuch("receiver", name)
		}
		return 0, err
	}
	err = o.recorded(ctx, who, keep.NoticeRetry, name, "", func(ctx context.Context) error {
		n, err = o.DB.TryAgain(ctx, name, id)
		return err
	})
	if err == nil {
		o.Teller.Again(name)
	}
	return n, err
}

const (
	// dryPatience bounds how long it is looked for what a notice would have told, mostDry what is shown of it.
	dryPatience = 10 * time.Second
	mostDry     = 200
)

// DryRun is what a notice would have told in the past, the newest first.
type DryRun struct {
	Records []keep.AuditRecord
	Count   int64     // of all, up to Since
	Since   time.Time // as far as it was looked
	Whole   bool
}

// DryRun says what a notice would have told since a time.
func (o *Office) DryRun(ctx context.Context, n *keep.Notice, since, now time.Time) (run DryRun, err error) {
	m, err := n.Matcher()
	if err != nil {
		return run, err
	}
	m.Off = false
	run.Since, run.Records = since, []keep.AuditRecord{}
	q := records.AuditQuery{Actions: keep.ActionsOf(n.Events), Since: since, Limit: 1000}
	if len(n.Accounts) == 1 && !strings.ContainsAny(n.Accounts[0], "*?") {
		q.Account = n.Accounts[0]
	}
	for began := time.Now(); ; {
		found, next, err := o.DB.SearchAudit(ctx, q)
		if err != nil {
			return run, err
		}
		for i := range found {
			r := &found[i]
			if e, over := keep.EventOf(r); e != "" && m.Matches(r, e, over, notice.Sight{DB: o.DB}) {
				if run.Count++; len(run.Records) < mostDry {
					run.Records = append(run.Records, *r)
				}
			}
		}
		if next == 0 {
			run.Whole = true
			break
		}
		if q.Before = next; time.Since(began) > dryPatience {
			if len(found) > 0 {
				run.Since = found[len(found)-1].At
			}
			break
		}
	}
	if n.Expect != nil {
		return run, o.dryExpect(ctx, m, since, now, &run)
	}
	return run, nil
}

// maxMissed bounds the days that a dry run looks back for uploads that did not come.
const maxMissed = 62

// dryExpect adds what did not come.
func (o *Office) dryExpect(ctx context.Context, m *keep.Matcher, since, now time.Time, run *DryRun) error {
	names := m.Accounts
	if len(names) == 0 {
		names = []string{""}
	}
	for n, due := 0, m.Expect.Last(now); n < maxMissed && !due.IsZero() && due.After(since); n++ {
		for _, account := range names {
			came, err := o.CameFor(ctx, m, account, due.Add(-m.Expect.Within.Duration()), due)
			if err != nil {
				return err
			}
			if came.IsZero() {
				run.Count++
				run.Records = append(run.Records, keep.AuditRecord{At: due, Account: account, Action: keep.Trouble, Target: m.Name, Reason: keep.NotCome, Outcome: keep.Failed, Detail: "it had not come by then"})
			}
		}
		due = m.Expect.Last(due.Add(-time.Second))
	}
	slices.SortStableFunc(run.Records, func(a, b keep.AuditRecord) int { return b.At.Compare(a.At) })
	run.Records = run.Records[:min(len(run.Records), mostDry)]
	return nil
}

// CameFor is when the first upload between two times came that a notice expects of an account ("": of any); zero when none did.
func (o *Office) CameFor(ctx context.Context, m *keep.Matcher, account string, from, until time.Time) (first time.Time, err error) {
	_, actions := m.Expected()
	q := records.AuditQuery{Account: account, Actions: actions, Since: from, Until: until, Limit: 1000}
	for {
		found, next, err := o.DB.SearchAudit(ctx, q)
		if err != nil {
			return first, err
		}
		for i := range found {
			r := &found[i]
			if m.Brings(r) {
				first = r.At
			}
		}
		if next == 0 {
			return first, nil
		}
		q.Before = next
	}
}
