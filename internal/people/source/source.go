package source

import (
	"context"
	"crypto/x509"
	"errors"
	"net/url"
	"time"

	"urbankeep/internal/keep"
)

// Person is who a source knows.
type Person struct {
	ID     string   // what the source calls it, for ever, also under another name
	Mail   string   // "": it says none
	Groups []string // of the source
	Keys   []string // SSH public keys, a line each
	Closed string   // why it may not sign in; "": it may
}

// Question is what a source is asked.
type Question struct {
	Name     string
	Password keep.Secret
	From     string // IP address of who signs in
	State    []byte // of a [Challenge] that Password answers; nil: of none
}

var (
	// ErrNobody says that the source knows nobody of that name.
	ErrNobody = errors.New("it knows nobody of that name")
	// ErrWrong says that the password is not right.
	ErrWrong = errors.New("wrong password")
	// ErrBrowserOnly says that the source knows no passwords: it proves people in a browser.
	ErrBrowserOnly = errors.New("it signs people in with a browser only")
)

// Away says that the source could not be asked.
type Away struct{ Cause error }

func (a *Away) Error() string { return "it can't be asked: " + a.Cause.Error() }

// Unwrap gives the cause.
func (a *Away) Unwrap() error { return a.Cause }

// Challenge is a question of the source: its answer comes as a password, with State.
type Challenge struct {
	Say   string
	State []byte
}

func (c *Challenge) Error() string { return "it asks: " + c.Say }

// Asker asks a source of one kind. All of it may be called at the same time.
type Asker interface {
	// Ask proves somebody by a password: [ErrNobody], [ErrWrong], a [*Challenge] or an [*Away] when it does not.
	Ask(ctx context.Context, q Question) (*Person, error)
	// Look finds somebody without a proof; an error that wraps [errors.ErrUnsupported] where the kind can't.
	Look(ctx context.Context, name string) (*Person, error)
	// Check tries the source step by step, and stops where it can't go on. Without a name nobody is looked for, without a
	// password nobody is proved.
	Check(ctx context.Context, q Question) ([]keep.Step, *Person)
	// Close ends its connections.
	Close()
}

// Listed is somebody with the name that the source has for them.
type Listed struct {
	Name string
	Person
	Until time.Time // when what vouched for them wants them to be signed out; zero: it does not say
}

// Lister is an asker that can say everybody it knows. It says all of them, or an error.
type Lister interface {
	List(ctx context.Context) ([]Listed, error)
}

// Journey is what is kept of a browser that was sent to a provider, until it is back.
type Journey struct {
	Origin   string // of the pages that it came from and goes back to, as in https://keep.example:8470
	State    string // by which its answer is known
	Nonce    string // that the ID token must carry; OpenID Connect
	Verifier string // of PKCE (RFC 7636)
	Request  string // ID of the authentication request that is answered; SAML
}

// Browsing is an asker that proves people in a browser.
type Browsing interface {
	// Begin says where a browser of a page at origin is to go; it comes back to [keep.SSOBack] there.
	Begin(ctx context.Context, origin string) (string, Journey, error)
	// End proves somebody by what the browser brings back. An error that is no [*Away] says, for the trail, why nobody is.
	End(ctx context.Context, j Journey, answer url.Values) (*Listed, error)
	// Describe is what the provider reads about this service (SAML metadata, XML); [errors.ErrUnsupported] where it reads nothing.
	Describe(origin string) ([]byte, error)
}

// Trusted are the certificates in a PEM text; nil, those of the system, for none.
func Trusted(pem string) (*x509.CertPool, error) {
	if pem == "" {
		return nil, nil
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(pem)) {
		return nil, errors.New("the certificates that it is to be trusted by can't be read")
	}
	return pool, nil
}
