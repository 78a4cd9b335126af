package certificate

import (
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/mholt/acmez/v3"
	"github.com/mholt/acmez/v3/acme"

	"urbankeep/internal/keep"
)

// Order is how a certificate is got from an authority (ACME, RFC 8555).
type Order struct {
	Hosts     []string `json:"hosts"`           // names and addresses that it is for
	Contact   string   `json:"contact"`         // mail address that the authority may write to; "": none
	Directory string   `json:"directory"`       // of the authority, a URL
	Trust     string   `json:"trust,omitempty"` // PEM of who vouches for the directory's own certificate; "": who this machine trusts
	KeyID     string   `json:"keyID,omitempty"` // external account binding (section 7.3.4)
	MAC       string   `json:"mac,omitempty"`   // its key, in base64url: a secret
	Account   string   `json:"account,omitempty"`
}

// DefaultDirectory is the authority where none is named.
const DefaultDirectory = "https://acme-v02.api.letsencrypt.org/directory"

const (
	// obtaining bounds one try.
	obtaining = 5 * time.Minute
	// firstPause and longestPause lie between one try that failed and the next.
	firstPause, longestPause = time.Minute, 6 * time.Hour
	// maxOrderHosts is how many names authorities put into one certificate.
	maxOrderHosts = 100
	// asking is how often an authority is asked when it would renew (RFC 9773), at most.
	asking = 6 * time.Hour
)

// Check reports what is wrong with an order as a [*keep.FieldError], and completes it.
func (o *Order) Check() error {
	if len(o.Hosts) == 0 || len(o.Hosts) > maxOrderHosts {
		return &keep.FieldError{Field: "hosts", Say: fmt.Sprintf("name 1 to %d hosts that clients come to, as in files.example.org", maxOrderHosts)}
	}
	for i, host := range o.Hosts {
		if !keep.IsHostName(host) || strings.HasPrefix(host, "*") {
			return &keep.FieldError{Field: "hosts", Say: fmt.Sprintf("%q is no host name that can be proved here: use one as in files.example.org, without a port or an asterisk", host)}
		}
		if o.Hosts[i] = keep.BareHost(host); slices.Contains(o.Hosts[:i], o.Hosts[i]) {
			return &keep.FieldError{Field: "hosts", Say: host + " is there twice"}
		}
	}
	if o.Contact != "" && (strings.Count(o.Contact, "@") != 1 || strings.ContainsAny(o.Contact, " ,;?\n")) {
		return &keep.FieldError{Field: "contact", Say: fmt.Sprintf("%q is no mail address", o.Contact)}
	}
	o.Directory = cmp.Or(o.Directory, DefaultDirectory)
	if at, err := url.Parse(o.Directory); err != nil || at.Scheme != "https" || at.Host == "" {
		return &keep.FieldError{Field: "directory", Say: fmt.Sprintf("%q is no address of a directory: use the form https://acme.example.org/directory", o.Directory)}
	}
	if o.Trust != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(o.Trust)) {
		return &keep.FieldError{Field: "trust", Say: "it holds no certificate in PEM form"}
	}
	if (o.KeyID == "") != (o.MAC == "") {
		return &keep.FieldError{Field: "eab", Say: "an external account binding is a key identifier and a key: the authority gives both"}
	}
	return nil
}

// renewal is how the getting of a certificate goes.
type renewal struct {
	failed  int // tries, one after the other
	failure string
	last    time.Time // of the last try
	asked   time.Time // when the authority was asked when to renew
	window  time.Time // when it would; zero: it did not say
	urgent  bool      // it should have been by now: the authority takes the certificate back
}

// due is when a certificate is to be got anew. The caller holds k.mu.
func (k *Keeper) due(leaf *x509.Certificate) time.Time {
	life := leaf.NotAfter.Sub(leaf.NotBefore)
	at := leaf.NotBefore.Add(life * 2 / 3)
	switch window := k.renewal.window; {
	case k.renewal.urgent: // yet an authority that always says so is not asked all the time
		at = leaf.NotBefore.Add(min(life/10, time.Hour))
	case !window.IsZero() && window.Before(leaf.NotAfter):
		at = leaf.NotBefore.Add(max(life/2, window.Sub(leaf.NotBefore)))
	}
	if k.renewal.failed > 0 {
		pause := firstPause << min(k.renewal.failed-1, 10)
		pause = min(pause, longestPause, max(time.Second, life/100))
		if again := k.renewal.last.Add(pause); again.After(at) {
			at = again
		}
	}
	return at
}

// Obtain gets a certificate from an authority and uses it; afterwards it is renewed by
// [Ring.Run]. When that fails, nothing changes.
func (k *Keeper) Obtain(ctx context.Context, o Order, anew bool) error {
	if err := o.Check(); err != nil {
		return err
	}
	if k.order != nil && !anew && k.order.Directory == o.Directory && k.order.Contact == o.Contact && o.KeyID == "" {
		o.Account = k.order.Account
		o.KeyID, o.MAC = k.order.KeyID, k.order.MAC
	}
	text, err := k.get(ctx, &o, anew, nil)
	if err != nil {
		return keep.Refuse(keep.BadRequest, sayFailure(err, &o))
	}
	if err := k.replace(ctx, text, &o); err != nil {
		return err
	}
	k.ring.Hurry()
	return nil
}

// get gets a certificate with a new key, as PEM.
func (k *Keeper) get(ctx context.Context, o *Order, anew bool, before *x509.Certificate) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, obtaining)
	defer cancel()
	client, err := k.ring.client(o)
	if err != nil {
		return nil, err
	}
	account, err := k.ring.account(ctx, client, o, anew)
	if err != nil {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	csr, err := acmez.NewCSR(key, o.Hosts)
	if err != nil {
		return nil, err
	}
	ask, err := acmez.OrderParametersFromCSR(account, csr)
	if err != nil {
		return nil, err
	}
	ask.Replaces = before
	got, err := client.ObtainCertificate(ctx, ask)
	if err != nil && before != nil && ctx.Err() == nil { // an authority that no longer knows the one before
		var problem acme.Problem
		if errors.As(err, &problem) && (problem.Type == acme.ProblemTypeMalformed || strings.HasSuffix(problem.Type, "alreadyReplaced")) {
			ask.Replaces = nil
			got, err = client.ObtainCertificate(ctx, ask)
		}
	}
	if err != nil {
		return nil, err
	}
	if len(got) == 0 {
		return nil, errors.New("the authority gave no certificate")
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	text := append(bytes.TrimSpace(got[0].ChainPEM), '\n')
	text = append(text, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...)
	pair, err := parse(text, text)
	if err == nil {
		err = stillGood(pair)
	}
	return text, err
}

func (r *Ring) client(o *Order) (*acmez.Client, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if o.Trust != "" {
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM([]byte(o.Trust))
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	transport.DisableKeepAlives = true
	client := &acmez.Client{ChallengeSolvers: map[string]acmez.Solver{}, Client: &acme.Client{Directory: o.Directory, UserAgent: "urbankeep",
		HTTPClient: &http.Client{Transport: transport, Timeout: time.Minute}, Logger: slog.New(slog.DiscardHandler)}}
	plain, secure := r.Ways()
	if plain {
		client.ChallengeSolvers[acme.ChallengeTypeHTTP01] = (*byPage)(&r.challenges)
	}
	if secure {
		client.ChallengeSolvers[acme.ChallengeTypeTLSALPN01] = (*byHandshake)(&r.challenges)
	}
	if len(client.ChallengeSolvers) == 0 {
		return nil, errNoWay
	}
	return client, nil
}

var errNoWay = errors.New("no web listener runs that can answer the authority: make one that it reaches on port 80 (listener add http web :80 -encryption off -redirect …) or on port 443 (listener add https web :443 -faces …)")

// account is the account with the authority: the one that there is, or a new one.
func (r *Ring) account(ctx context.Context, client *acmez.Client, o *Order, anew bool) (acme.Account, error) {
	sum := sha256.Sum256([]byte(o.Directory + "\n" + o.Contact + "\n" + o.KeyID))
	file := filepath.Join(r.dir, "accounts", hex.EncodeToString(sum[:8])+".pem")
	if anew {
		o.Account = ""
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return acme.Account{}, err
		}
	}
	key, err := accountKey(file)
	if err != nil {
		return acme.Account{}, err
	}
	account := acme.Account{TermsOfServiceAgreed: true, PrivateKey: key, Location: o.Account}
	if o.Contact != "" {
		account.Contact = []string{"mailto:" + o.Contact}
	}
	if o.Account != "" {
		account.Status = acme.StatusValid // as far as is known
		return account, nil
	}
	if o.KeyID != "" {
		if err := account.SetExternalAccountBinding(ctx, client.Client, acme.EAB{KeyID: o.KeyID, MACKey: strings.TrimRight(o.MAC, "=")}); err != nil {
			return account, err
		}
	}
	if account, err = client.NewAccount(ctx, account); err != nil { // one that there is for the key is found so too
		return account, err
	}
	o.Account = account.Location
	return account, nil
}

// accountKey reads the key of an account, or makes it.
func accountKey(file string) (crypto.Signer, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		return key, write(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key: remove it, and say -new-account", file)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("%s holds a key that can't sign", file)
	}
	return signer, nil
}

// sayFailure says in words why an authority gave no certificate, and what to do.
func sayFailure(err error, o *Order) string {
	host := o.Directory
	if at, perr := url.Parse(o.Directory); perr == nil {
		host = at.Host
	}
	var problem acme.Problem
	var network *net.OpError
	switch {
	case errors.Is(err, errNoWay):
		return err.Error()
	case errors.As(err, &problem):
		text := problem.Detail
		for _, sub := range problem.Subproblems {
			text += "; " + sub.Identifier.Value + ": " + sub.Detail
		}
		kind := problem.Type[strings.LastIndexByte(problem.Type, ':')+1:]
		advice := map[string]string{
			"unauthorized":            "if it speaks of the account, make a new one with -new-account; else " + notReached,
			"accountDoesNotExist":     "make a new account with -new-account",
			"externalAccountRequired": "it wants -eab: a key identifier and a key, which it gives its customers",
			"connection":              notReached,
			"malformed":               notReached,
			"dns":                     "put an A or AAAA record for the name in the DNS",
			"tls":                     "see that port 443 of that name is forwarded to a web listener with TLS as it is, without a proxy that ends TLS",
			"rateLimited":             "wait: it is tried again by itself",
			"caa":                     "the CAA record of the name in the DNS lets other authorities only",
			"rejectedIdentifier":      "it gives no certificates for such a name",
		}[kind]
		return strings.TrimRight(fmt.Sprintf("the authority %s refused (%s): %s: %s", host, kind, strings.TrimSuffix(text, "."), advice), ": ")
	case errors.As(err, &network), errors.Is(err, context.DeadlineExceeded):
		return fmt.Sprintf("the authority %s does not answer: %v: see that this machine reaches it; it is tried again by itself", host, plainCause(err))
	}
	return fmt.Sprintf("no certificate came from the authority %s: %v", host, plainCause(err))
}

const notReached = "see that port 80 or 443 of that name is open and forwarded to a web listener (checkup -ports)"

// plainCause is the innermost error: the ones around it repeat what was asked.
func plainCause(err error) error {
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return err
		}
		err = next
	}
}

// Run renews certificates until ctx ends.
func (r *Ring) Run(ctx context.Context) {
	for {
		next := time.Now().Add(time.Hour) // at the latest: the clock may have been set
		for _, k := range r.list() {
			if at := r.tend(ctx, k); !at.IsZero() && at.Before(next) {
				next = at
			}
		}
		timer := time.NewTimer(max(100*time.Millisecond, time.Until(next)))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-r.wake:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// Hurry lets Run look again at what is due.
func (r *Ring) Hurry() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// tend renews a certificate when it is due, and says when to look at it again; zero: it is not
// got from an authority.
func (r *Ring) tend(ctx context.Context, k *Keeper) time.Time {
	leaf := k.current().Leaf
	k.mu.Lock()
	order, due := k.order, k.due(leaf)
	k.mu.Unlock()
	if order == nil {
		return time.Time{}
	}
	if time.Now().Before(due) {
		return r.ask(ctx, k, order, leaf, due)
	}
	o := *order
	text, err := k.get(ctx, &o, false, leaf)
	if ctx.Err() != nil {
		return due
	}
	k.mu.Lock()
	replaced := k.order != order // somebody has changed it meanwhile
	k.mu.Unlock()
	if err == nil && !replaced {
		err = k.replace(ctx, text, &o)
	}
	if replaced {
		return time.Now()
	}
	if err != nil {
		k.mu.Lock()
		k.renewal.failed++
		k.renewal.last, k.renewal.failure = time.Now(), sayFailure(err, &o)
		k.mu.Unlock()
		r.log.Error("TLS certificate not renewed; the one before it is shown", "certificate", k.name, "until", leaf.NotAfter, "cause", sayFailure(err, &o))
	} else {
		r.log.Info("TLS certificate renewed", "certificate", k.name, "until", k.current().Leaf.NotAfter)
	}
	f := k.Facts()
	r.Told(f, err)
	return f.Next
}

// ask asks an authority when it would renew a certificate (RFC 9773): earlier than usual when it
// takes it back. Who does not say it is not asked again soon.
func (r *Ring) ask(ctx context.Context, k *Keeper, o *Order, leaf *x509.Certificate, due time.Time) time.Time {
	pace := min(asking, max(time.Minute, leaf.NotAfter.Sub(leaf.NotBefore)/100))
	k.mu.Lock()
	again := k.renewal.asked.Add(pace)
	k.mu.Unlock()
	if time.Now().Before(again) {
		return earlier(due, again)
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	var info acme.RenewalInfo
	client, err := r.client(o)
	if err == nil {
		info, err = client.GetRenewalInfo(ctx, leaf)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.renewal.asked = time.Now()
	if err == nil && info.HasWindow() {
		k.renewal.window, k.renewal.urgent = info.SelectedTime, info.SuggestedWindow.End.Before(time.Now())
	}
	return earlier(k.due(leaf), k.renewal.asked.Add(pace))
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// challenges are what an authority is to find.
type challenges struct {
	at     sync.Mutex
	pages  map[string]string           // key authorizations by token (section 8.3)
	shakes map[string]*tls.Certificate // by name (RFC 8737)
}

// Page is what an authority is to find under a token; "": nothing.
func (c *challenges) Page(token string) string {
	c.at.Lock()
	defer c.at.Unlock()
	return c.pages[token]
}

// challenged is the certificate of a challenge, for an authority that asks for it; nil: it is no
// such client, or there is none.
func (c *challenges) challenged(hello *tls.ClientHelloInfo) *tls.Certificate {
	if !slices.Contains(hello.SupportedProtos, acmez.ACMETLS1Protocol) {
		return nil
	}
	c.at.Lock()
	defer c.at.Unlock()
	return c.shakes[strings.ToLower(hello.ServerName)]
}

type byPage challenges

func (b *byPage) Present(_ context.Context, c acme.Challenge) error {
	b.at.Lock()
	defer b.at.Unlock()
	if b.pages == nil {
		b.pages = map[string]string{}
	}
	b.pages[c.Token] = c.KeyAuthorization
	return nil
}

func (b *byPage) CleanUp(_ context.Context, c acme.Challenge) error {
	b.at.Lock()
	defer b.at.Unlock()
	delete(b.pages, c.Token)
	return nil
}

type byHandshake challenges

// asked is the name by which an authority asks for a host: of an address, that of RFC 8738,
// section 6.
func asked(host string) string {
	at, err := netip.ParseAddr(host)
	if err != nil {
		return strings.ToLower(host)
	}
	if at.Is4() {
		b := at.As4()
		return fmt.Sprintf("%d.%d.%d.%d.in-addr.arpa", b[3], b[2], b[1], b[0])
	}
	text, bytes := "", at.As16()
	for i := len(bytes) - 1; i >= 0; i-- {
		text += fmt.Sprintf("%x.%x.", bytes[i]&15, bytes[i]>>4)
	}
	return text + "ip6.arpa"
}

func (b *byHandshake) Present(_ context.Context, c acme.Challenge) error {
	pair, err := acmez.TLSALPN01ChallengeCert(c)
	if err != nil {
		return err
	}
	b.at.Lock()
	defer b.at.Unlock()
	if b.shakes == nil {
		b.shakes = map[string]*tls.Certificate{}
	}
	b.shakes[asked(c.Identifier.Value)] = pair
	return nil
}

func (b *byHandshake) CleanUp(_ context.Context, c acme.Challenge) error {
	b.at.Lock()
	defer b.at.Unlock()
	delete(b.shakes, asked(c.Identifier.Value))
	return nil
}
