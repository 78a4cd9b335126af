package office

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/desk/checkup"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/certificate"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

const (
	// certificateSoon is how long before its end a certificate is worth a warning.
	certificateSoon = 21 * 24 * time.Hour
	// neverUsedAfter is how old an account is that should have been used.
	neverUsedAfter = 30 * 24 * time.Hour
	// verifyPatience bounds the verification of the trail, countPatience the counting of folders.
	verifyPatience = 20 * time.Second
	countPatience  = 20 * time.Second
)

// posts are the listeners as they run.
func (o *Office) posts(ctx context.Context) ([]checkup.Post, error) {
	found, err := o.DB.Listeners(ctx)
	if err != nil {
		return nil, err
	}
	rules, err := o.Gate(ctx)
	posts := make([]checkup.Post, len(found))
	for i, l := range found {
		posts[i] = checkup.Post{Listener: l, Admits: func(address string) bool { return rules.Admit(address) && l.Admits(address) }}
		posts[i].At, posts[i].Taken, posts[i].Refused = o.Live.Watch(l.Name)
		posts[i].Unable = o.Live.Unable(l.Name)
	}
	return posts, err
}

// Checkup looks at everything that goes wrong in practice; by asks for it, and only for an owner, or the service itself, other
// machines are called.
func (o *Office) Checkup(ctx context.Context, by keep.Role) (checkup.Findings, error) {
	posts, err := o.posts(ctx)
	if err != nil {
		return nil, err
	}
	who, err := o.Identity(ctx)
	if err != nil {
		return nil, err
	}
	stores, err := o.DB.Stores(ctx)
	if err != nil {
		return nil, err
	}
	f := checkup.Listeners(ctx, posts, who.Host, by == keep.Owner)
	f = append(f, checkup.Passive(ctx, posts, who.Host, by == keep.Owner)...)
	o.checkProcess(&f, posts)
	o.checkCertificates(&f, posts, who.Host)
	o.checkHostKeys(&f)
	f = append(f, checkup.Folder(o.Dir, stores)...)
	there, healths := []keep.Store{}, map[string]kinds.Health{}
	for _, s := range stores {
		h := o.Stores.Examine(s)
		healths[s.Name] = h
		if h.Away == nil || errors.Unwrap(h.Away) == nil {
			there = append(there, s)
		} else {
			f.Add("store", s.Name, checkup.Fault, awayHint(s), "%v", errors.Unwrap(h.Away))
		}
	}
	f = append(f, checkup.Stores(there, func(s keep.Store) (error, store.Space) {
		h := healths[s.Name]
		if !o.Written(ctx, s.Name) {
			h.Closed = nil
		}
		return h.Closed, h.Space
	})...)
	for _, part := range []struct {
		name string
		look func(context.Context, *checkup.Findings) error
	}{{"database", o.checkDatabase}, {"account", o.checkAccounts}, {"key", o.checkKeys}, {"operator", o.checkOperators}, {"pass", o.checkPasses}, {"notice", o.checkNotices}, {"quota", o.checkQuotas}, {"audit", o.checkTrail}} {
		if err := part.look(ctx, &f); ctx.Err() != nil {
			return nil, ctx.Err()
		} else if err != nil { // what can't be looked at is a finding, and keeps nothing else from being looked at
			o.Log.Error("a part of the check-up failed", "part", part.name, "cause", err)
			f.Add(part.name, "", checkup.Fault, "restore a backup; the log says more", "the records of it can't all be read, so nothing is known of it")
		}
	}
	return f, nil
}

// Ports are the ports to open and forward; see [checkup.Ports].
func (o *Office) Ports(ctx context.Context, management int) ([]checkup.Port, error) {
	posts, err := o.posts(ctx)
	if err != nil {
		return nil, err
	}
	return checkup.Ports(posts, management), nil
}

func (o *Office) checkProcess(f *checkup.Findings, posts []checkup.Post) {
	for _, p := range posts {
		if port, _ := p.Port(); !p.Stopped || port == 0 || port >= 1024 {
			continue
		}
		// One that listens shows that it may; of one that is stopped it is better known before.
		socket, err := net.Listen("tcp", p.Address)
		if err == nil {
			socket.Close()
		} else if errors.Is(err, fs.ErrPermission) {
			f.Add("privilege", p.Name, checkup.Warning, "give the program the capability CAP_NET_BIND_SERVICE, as the systemd unit does, or use a port from 1024 on",
				"it is stopped, and can't be started again: the port of %s is below 1024", p.Address)
		}
	}
	if os.Geteuid() == 0 {
		f.Add("privilege", "", checkup.Note, "run it as a user of its own, as the systemd unit does", "the service runs as root")
	} else {
		f.Add("privilege", "", checkup.Fine, "", "the service does not run as root")
	}
	console := false
	for _, p := range posts {
		console = console || p.Serves(keep.ConsoleFace)
		if p.InClear() {
			f.Add("web", p.Name, checkup.Warning, "listener set "+p.Name+" -encryption required, or let it listen on 127.0.0.1", "it listens on %s without TLS: passwords go in clear", p.At)
		}
	}
	if !console {
		f.Add("console", "", checkup.Note, "listener add web web 127.0.0.1:8470, or let a web listener serve it (-faces)", "no web listener serves the console; the commands on this machine still work")
	}
}

func (o *Office) checkCertificates(f *checkup.Findings, posts []checkup.Post, host string) {
	shown := slices.ContainsFunc(posts, func(p checkup.Post) bool {
		return p.Protocol != keep.SFTP && p.Encryption != keep.EncryptionOff && !p.Stopped
	})
	if !shown {
		return
	}
	for _, c := range o.Certificates.Facts() {
		checkCertificate(f, &c)
	}
	hosts := []string{host}
	for _, p := range posts {
		if !p.Stopped && p.Protocol == keep.Web && p.Encryption != keep.EncryptionOff {
			hosts = append(hosts, p.Hosts...)
		}
	}
	slices.Sort(hosts)
	for _, host := range slices.Compact(hosts) {
		if c := o.Certificates.For(host); host != "" && !strings.HasPrefix(host, "*") && !c.Covers(host) {
			f.Add("certificate", "", checkup.Warning, "certificate acme -host "+host+", or put one that names it in its place", "it names %s, but clients come to %s", strings.Join(c.Facts().Names, ", "), host)
		}
	}
}

// soon is how long before its end a certificate is worth a warning: one that is got from an authority
// should have been renewed by then.
func soon(c *certificate.Facts) time.Duration {
	if c.Order != nil {
		return min(certificateSoon, c.Until.Sub(c.From)/4)
	}
	return certificateSoon
}

// EndingCertificates are those whose end is near.
func (o *Office) EndingCertificates() (found []certificate.Facts) {
	for _, c := range o.Certificates.Facts() {
		if left := time.Until(c.Until); left > 0 && left < soon(&c) {
			found = append(found, c)
		}
	}
	return found
}

func checkCertificate(f *checkup.Findings, c *certificate.Facts) {
	until := c.Until.Format(time.DateOnly)
	of := c.Name
	if of == certificate.Main {
		of = ""
	}
	switch left := time.Until(c.Until); {
	case c.Problem != "":
		f.Add("certificate", of, checkup.Fault, "correct the files; the certificate before them is shown meanwhile", "the changed files can't be used: %s", c.Problem)
	case left < 0:
		f.Add("certificate", of, checkup.Fault, renewal(c), "it ended on %s: clients refuse it", until)
	case time.Now().Before(c.From):
		f.Add("certificate", of, checkup.Fault, "set the clock of this machine, or use another certificate", "it begins only on %s", c.From.Format(time.DateOnly))
	case left < soon(c):
		f.Add("certificate", of, checkup.Warning, renewal(c), "it ends on %s", until)
	case c.Order != nil:
		f.Add("certificate", of, checkup.Fine, "", "it is good until %s, and renewed on %s", until, c.Next.Format(time.DateOnly))
	default:
		f.Add("certificate", of, checkup.Fine, "", "it is good until %s", until)
	}
	if c.Failed > 0 {
		f.Add("certificate", of, checkup.Warning, "mend that; it is tried again by itself, next at "+moment(c.Next), "it could not be renewed, %s: %s", keep.SayMany(c.Failed, "attempt"), c.Failure)
	}
	if c.SelfSigned {
		f.Add("certificate", of, checkup.Note, "get one from an authority (certificate acme, certificate follow), or hand out its fingerprint: handover sheets have it", "it is self-signed: clients warn unless they know it")
	} else if c.Chain < 2 && c.Order == nil {
		f.Add("certificate", of, checkup.Warning, "put the certificates of the authority behind it in the same file", "it comes without the certificate of its authority (%s): some clients can't build the chain", c.Issuer)
	}
}

func renewal(c *certificate.Facts) string {
	switch {
	case c.Order != nil:
		return "mend what keeps it from being renewed; it is tried by itself"
	case c.SelfSigned:
		return "make a new one with certificate renew, or get one from an authority with certificate acme"
	}
	return "put a new one in its place; the service reads it by itself"
}

func (o *Office) checkHostKeys(f *checkup.Findings) {
	var types []string
	for _, k := range o.HostKeys.Keys() {
		if k.State != "in-use" {
			continue
		}
		types = append(types, k.Type())
		if k.Type() == "ssh-rsa" && k.Bits() < 3000 {
			f.Add("host-key", k.Fingerprint(), checkup.Warning, "make a longer one: hostkey make rsa, then hostkey use", "it is RSA of %d bits", k.Bits())
		}
	}
	if !slices.Contains(types, "ssh-ed25519") {
		f.Add("host-key", "", checkup.Warning, "make one: hostkey make ed25519, then hostkey use", "there is no Ed25519 key, which new clients ask for first")
	}
	if len(types) > 0 {
		f.Add("host-key", "", checkup.Fine, "", "clients know the service by %s", strings.Join(types, ", "))
	}
}

func (o *Office) checkDatabase(ctx context.Context, f *checkup.Findings) error {
	bounded, cancel := context.WithTimeout(ctx, verifyPatience)
	defer cancel()
	switch problem, err := o.DB.Integrity(bounded); {
	case bounded.Err() != nil && ctx.Err() == nil:
		f.Add("database", "", checkup.Note, "", "it is so large that it was not looked through in %s", verifyPatience)
	case err != nil:
		return err
	case problem != "":
		f.Add("database", "", checkup.Fault, "restore a backup (restore), and look at the disk", "it is damaged: %s", problem)
	default:
		f.Add("database", "", checkup.Fine, "", "it is sound")
	}
	last, err := o.DB.LatestAudit(ctx)
	if err != nil {
		return err
	}
	if now := time.Now(); last.After(now.Add(time.Minute)) {
		f.Add("clock", "", checkup.Fault, "set the clock, and keep it right with NTP", "this machine says it is %s, but the newest audit record is of %s", moment(now), moment(last))
	} else {
		f.Add("clock", "", checkup.Fine, "", "it is %s (UTC), and no audit record is of a later time", moment(now))
	}
	return nil
}

func (o *Office) checkAccounts(ctx context.Context, f *checkup.Findings) error {
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	found, err := o.DB.Listeners(ctx)
	if err != nil {
		return err
	}
	var open []string
	for _, l := range found {
		if l.Protocol == keep.FTP && l.Encryption != keep.EncryptionRequired && !l.Stopped {
			open = append(open, l.Name)
		}
	}
	var plain, everywhere, unlimited, unused, expired, anonymous []string
	for _, a := range accounts {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return err
		}
		if a.Anonymous() {
			anonymous = append(anonymous, a.Name)
			continue
		}
		if e.Encryption == keep.EncryptionOptional {
			plain = append(plain, a.Name)
			if len(e.Allow) == 0 {
				everywhere = append(everywhere, a.Name)
			}
		}
		if e.ValidUntil.IsZero() {
			unlimited = append(unlimited, a.Name)
		} else if e.ValidUntil.Before(time.Now()) {
			expired = append(expired, a.Name)
		}
		if a.LastSignIn.IsZero() && time.Since(a.Created) > neverUsedAfter {
			unused = append(unused, a.Name)
		}
	}
	f.Named("plain-ftp", checkup.Warning, "listener set NAME -encryption required; allow it for single accounts only", "every account may send its password in clear on %s", open)
	f.Named("plain-ftp", checkup.Note, "account set NAME -encryption required, where the client can do TLS", "may send their password in clear: %s", plain)
	f.Named("plain-ftp", checkup.Note, "account set NAME -allow NETWORKS: from elsewhere nobody is told", "whoever tries names can find out that these exist: %s", everywhere)
	if len(open)+len(plain) == 0 {
		f.Add("plain-ftp", "", checkup.Fine, "", "no password goes in clear")
	}
	f.Named("anonymous", checkup.Note, "account delete anonymous, if that is not meant", "everybody may read what is mounted for %s", anonymous)
	f.Named("account", checkup.Note, "account set NAME -valid-until DAY, where access has an end", "have no end date: %s", unlimited)
	f.Named("account", checkup.Note, "account delete NAME, if nobody needs them", "were never used, and are older than 30 days: %s", unused)
	f.Named("account", checkup.Note, "account delete NAME; the files stay", "their time has ended: %s", expired)
	return nil
}

func (o *Office) checkKeys(ctx context.Context, f *checkup.Findings) error {
	_, rows, err := o.badKeys(ctx, ReportAsk{Now: time.Now()})
	for _, row := range rows {
		f.Add("key", row[0], checkup.Warning, "make a key of its own for each account (key make), and remove this one", "the key %s (%s) is %s", cmp.Or(row[1], "without a label"), row[2], row[3])
	}
	if err == nil && len(rows) == 0 {
		f.Add("key", "", checkup.Fine, "", "no key is weak, shared or past its end")
	}
	return err
}

// passFar is how far the end of a pass may be until it is worth a look.
const passFar = 90 * 24 * time.Hour

// checkPasses counts what is open to people without an account.
func (o *Office) checkPasses(ctx context.Context, f *checkup.Findings) error {
	now := time.Now()
	open, err := o.DB.Passes(ctx, records.PassQuery{}, now)
	if err != nil {
		return err
	}
	var bare, far []string
	for _, p := range open {
		if p.Password == "" && len(p.Networks) == 0 {
			bare = append(bare, p.ID+" of "+p.Name)
		}
		if p.Expires.Sub(now) > passFar {
			far = append(far, p.ID+" of "+p.Name)
		}
	}
	f.Named("pass", checkup.Note, "pass list shows them; pass end ends what is no longer needed, pass add -password makes one with a password", "have neither a password nor networks: %s", bare)
	f.Named("pass", checkup.Warning, "pass end those that are no longer needed, and make new ones with a nearer end", "end more than 90 days from now: %s", far)
	if len(bare)+len(far) == 0 {
		f.Add("pass", "", checkup.Fine, "", "passes that are open to people without an account: %d, none without a password or with a far end", len(open))
	}
	return nil
}

// checkNotices looks at who can't be told.
func (o *Office) checkNotices(ctx context.Context, f *checkup.Findings) error {
	all, err := o.DB.Receivers(ctx)
	if err != nil {
		return err
	}
	server, err := o.MailServer(ctx)
	if err != nil {
		return err
	}
	well := 0
	var mails []string
	for _, r := range all {
		if r.Kind == keep.MailMessage && r.Account == "" {
			mails = append(mails, r.Name)
		}
		aside, err := o.DB.CountTold(ctx, r.Name, records.ToldAside)
		if err != nil {
			return err
		}
		now, _ := o.Teller.State(r.Name)
		switch {
		case now.Trouble != "":
			f.Add("notice", r.Name, checkup.Warning, "receiver test "+r.Name+" tries it; what is not told waits", "it can't be told: %s", now.Trouble)
		case aside > 0:
			f.Add("notice", r.Name, checkup.Note, "notice told -receiver "+r.Name+" -state aside lists it; notice retry "+r.Name+" tells it again", "%s set aside that could not be told", keep.SayMany(aside, "thing"))
		default:
			well++
		}
	}
	if server.Host == "" {
		f.Named("notice", checkup.Warning, "mail set names a mail server", "get mail, but no mail server is set: %s", mails)
	}
	if len(all) > 0 && well == len(all) {
		f.Add("notice", "", checkup.Fine, "", "receivers of notices: %d, and all of them hear", len(all))
	}
	return nil
}

func (o *Office) checkOperators(ctx context.Context, f *checkup.Findings) error {
	found, err := o.DB.Operators(ctx)
	owners, bare := 0, []string{}
	for _, one := range found {
		if one.Role == keep.Owner {
			owners++
			if one.CodeSecret == "" {
				bare = append(bare, one.Name)
			}
		}
	}
	switch {
	case owners == 0:
		f.Add("operator", "", checkup.Warning, "open the set-up link that serve printed, or operator add NAME -role owner", "there is no operator: nobody can sign in to the console")
	case owners == 1:
		f.Add("operator", "", checkup.Note, "operator add NAME -role owner", "there is one owner: when that one is away, nobody can manage operators")
	default:
		f.Add("operator", "", checkup.Fine, "", "there are %s", keep.SayMany(owners, "owner"))
	}
	f.Named("operator", checkup.Note, "switch one-time codes on, in the console under Operators", "sign in with a password alone: %s", bare)
	if now := o.Collector.State(ctx); now.Address != "" && now.Trouble != "" {
		f.Add("collector", "", checkup.Warning, "see that it runs; nothing is lost meanwhile", "audit records wait for %s: %s", now.Address, now.Trouble)
	}
	return err
}

func (o *Office) checkQuotas(ctx context.Context, f *checkup.Findings) error {
	uses := o.Ledger.Uses()
	started, counted := time.Now(), 0
	for _, use := range uses {
		if time.Since(started) > countPatience || ctx.Err() != nil {
			break
		}
		if use.Counting {
			continue
		}
		spot := quota.Spot{Store: use.Store, Path: use.Folder}
		d, err := o.Ledger.Recount(spot)
		counted++
		if err != nil {
			f.Add("quota", spot.Store+":"+spot.Path, checkup.Warning, "see that the store is there and can be read", "it can't be counted: %v", keep.FaultOf(err).Say)
		} else if d.Differs() {
			f.Add("quota", spot.Store+":"+spot.Path, checkup.Warning, "find out what changes files behind the service's back; the count is right again now", "the count was out of step with the disk: %s", d)
		}
	}
	if len(uses) == 0 {
		return nil
	}
	f.Add("quota", "", checkup.Fine, "", "%d of %d folders with quotas were counted", counted, len(uses))
	return nil
}

func (o *Office) checkTrail(ctx context.Context, f *checkup.Findings) error {
	if err := o.Trail.Stuck(); err != nil {
		f.Add("audit", "", checkup.Fault, "free some space on the disk of the data folder, or mend it; the service goes on by itself", "the trail can't be written, so nothing is done: %v", err)
	}
	bounded, cancel := context.WithTimeout(ctx, verifyPatience)
	defer cancel()
	switch report, err := audit.Verify(bounded, o.DB, audit.Check{Seal: o.Seal, Trail: o.Trail}); {
	case bounded.Err() != nil && ctx.Err() == nil:
		f.Add("audit", "", checkup.Note, "audit verify takes the time it needs", "the trail is so long that it was not verified in %s", verifyPatience)
	case err != nil:
		return err
	case report.BadSeq != 0:
		f.Add("audit", "", checkup.Fault, "keep a copy of the data folder as evidence, then restore a backup; docs/audit.md says what this proves", "record %d: %s", report.BadSeq, report.Problem)
	default:
		f.Add("audit", "", checkup.Fine, "", "%s", fmt.Sprintf("%s and %s, as they were written", keep.SayMany(report.Checked, "record"), keep.SayMany(report.Checkpoints, "checkpoint")))
	}
	return nil
}
