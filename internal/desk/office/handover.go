package office

import (
	"cmp"
	"context"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/desk/handover"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/signin"
)

// Handover writes the sheet for whoever will connect as an account. Host is where they come
// to, "" for what the service is known by.
func (o *Office) Handover(ctx context.Context, name, host string) (handover.Sheet, error) {
	e, err := o.Account(ctx, name)
	if err != nil {
		return handover.Sheet{}, err
	}
	i, err := o.Identity(ctx)
	if err != nil {
		return handover.Sheet{}, err
	}
	posts, err := o.posts(ctx)
	if err != nil {
		return handover.Sheet{}, err
	}
	f := handover.Facts{Service: i.Name, Host: cmp.Or(host, i.Host), Account: e, Made: time.Now()}
	for _, p := range posts {
		at, err := netip.ParseAddrPort(p.At)
		if err != nil || p.Protocol == keep.Web {
			continue
		}
		if f.Host == "" && !at.Addr().IsUnspecified() {
			f.Host = at.Addr().String()
		}
		f.Doors = append(f.Doors, handover.Door{Listener: p.Listener, Port: int(at.Port())})
	}
	for _, p := range posts {
		if f.Portal == "" && e.MayUse(keep.Portal) && !e.Anonymous() && p.Serves(keep.PortalFace) {
			if at := originOf(&p.Listener, p.At, f.Host); at != "" {
				f.Portal = at + "/portal/"
			}
		}
	}
	for _, p := range posts {
		if f.Disk == "" && e.MayUse(keep.WebDAV) && e.SignInBy.TakesPassword(false) && !e.Anonymous() && p.Serves(keep.DavFace) {
			if at := originOf(&p.Listener, p.At, f.Host); at != "" {
				f.Disk = at + "/dav/"
			}
		}
	}
	check := keep.Identity{Host: f.Host}
	if f.Host == "" {
		return handover.Sheet{}, &keep.FieldError{Field: "host", Say: "nobody said under which address clients reach the service: say it with service set -host NAME, or here"}
	}
	if err := check.Check(); err != nil {
		return handover.Sheet{}, err
	}
	if f.Keys, err = o.DB.Keys(ctx, e.ID); err != nil {
		return handover.Sheet{}, err
	}
	for _, k := range o.HostKeys.Keys() {
		if k.State != "retired" {
			f.HostKeys = append(f.HostKeys, handover.HostKey{Type: k.Type(), Fingerprint: k.Fingerprint(), Line: k.Line()})
		}
	}
	c := o.Certificates.For(f.Host).Facts()
	f.Certificate = handover.Certificate{Fingerprint: c.Fingerprint, Until: c.Until, SelfSigned: c.SelfSigned, PEM: o.Certificates.For(f.Host).PEM()}
	return handover.New(f), nil
}

// originOf is where a browser on another machine finds a web listener at an address; "" where it can't.
func originOf(l *keep.Listener, at, host string) string {
	where, err := netip.ParseAddrPort(at)
	if err != nil {
		return ""
	}
	if !l.Answers(host) {
		host = strings.TrimPrefix(l.Hosts[0], "*.")
	}
	here, _ := netip.ParseAddr(host)
	scheme, port, usual := "http", int(where.Port()), 80
	switch {
	case len(l.Proxies) > 0: // it is the balancer that browsers come to
		return "https://" + bracketed(host)
	case where.Addr().IsLoopback() && host != "localhost" && !here.IsLoopback():
		return ""
	case l.Encryption != keep.EncryptionOff:
		scheme, usual = "https", 443
	}
	if port == usual {
		return scheme + "://" + bracketed(host)
	}
	return scheme + "://" + net.JoinHostPort(strings.Trim(host, "[]"), strconv.Itoa(port))
}

func bracketed(host string) string {
	if strings.Contains(host, ":") && !strings.HasPrefix(host, "[") {
		return "[" + host + "]"
	}
	return host
}

// Origin is where others find a face with a browser: at the host by which the service is known, or that a listener answers to, by
// https where there is a choice, by the first of some faces that is shown at all. Where no listener shows it to others it is where
// this machine finds it, and shut says so, and what to do; "" where none shows it at all. No request has a say in it.
func (o *Office) Origin(ctx context.Context, faces ...keep.Face) (origin, shut string, err error) {
	i, err := o.Identity(ctx)
	if err != nil {
		return "", "", err
	}
	posts, err := o.posts(ctx)
	here := ""
	for _, face := range faces {
		found := ""
		for _, p := range posts {
			if !p.Serves(face) {
				continue
			}
			here = cmp.Or(here, originOf(&p.Listener, p.At, nearHost(p.At)))
			if i.Host == "" && len(p.Hosts) == 0 {
				continue
			}
			at := originOf(&p.Listener, p.At, i.Host)
			if strings.HasPrefix(at, "https:") {
				return at, "", nil
			}
			found = cmp.Or(found, at)
		}
		if found != "" {
			return found, "", nil
		}
	}
	switch {
	case err != nil:
	case here == "":
		shut = "no web listener shows that to anybody: let one (listener set NAME -faces)"
	case i.Host == "":
		shut = "nobody else can open this, for nobody said under which name others reach the service: service set -host NAME"
	default:
		shut = "nobody else can open this, for no listener that others reach shows it: listener list, and listener set NAME -faces"
	}
	return here, shut, err
}

// nearHost is a name by which this machine reaches what listens at an address.
func nearHost(at string) string {
	where, err := netip.ParseAddrPort(at)
	if err != nil || where.Addr().IsUnspecified() {
		return "localhost"
	}
	return where.Addr().String()
}

// LinkPassword gives an account a new password that nobody has seen, which it must change
// where it can, and the secret of a link that shows it once.
func (o *Office) LinkPassword(ctx context.Context, who Actor, name string, mustChange bool, life time.Duration) (keep.Secret, error) {
	if life <= 0 || life > signin.MaxLinkLife {
		return "", &keep.FieldError{Field: "days", Say: "use 1 to 30"}
	}
	password := passwords.Generate()
	e, err := o.SetAccount(ctx, who, name, password, func(a *keep.Account) error {
		a.MustChange = mustChange
		return nil
	})
	if err != nil {
		return "", err
	}
	secret, err := signin.NewPasswordLink(ctx, o.DB, e.Name, password, life)
	if err != nil {
		return "", err
	}
	return secret, o.record(who, keep.PasswordLinked, e.Name, "works until "+moment(time.Now().Add(life)))
}

// DropCodes forgets what makes an account's one-time codes, and where they are not asked for.
func (o *Office) DropCodes(ctx context.Context, who Actor, name string) error {
	a, err := o.Account(ctx, name)
	if err != nil {
		return err
	}
	secret, _, err := o.DB.CodeSecret(ctx, a.ID)
	if err != nil {
		return err
	}
	if secret == "" && a.FactorRemember == 0 {
		signin.NothingChanged(ctx)
		return nil
	}
	return o.recorded(ctx, who, keep.FactorSet, a.Name, "one-time codes off", func(ctx context.Context) error { return o.DB.DropCodeSecret(ctx, a.ID) })
}
