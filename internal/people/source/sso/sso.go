package sso

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

const (
	// maxRead bounds one answer of a provider, bytes; maxValues the values of one claim, maxValue one of them.
	maxRead             = 1 << 20
	maxValues, maxValue = 1000, 1000
	// knownFor is how long it counts what a provider says about itself.
	knownFor = time.Hour
)

// Provider asks one. See [source.Asker] and [source.Browsing].
type Provider struct {
	set    keep.Source
	speaks standard
	client *http.Client
}

// standard is how a provider speaks.
type standard interface {
	begin(ctx context.Context, origin string) (string, source.Journey, error)
	end(ctx context.Context, j source.Journey, answer url.Values) (*source.Listed, error)
	describe(origin string) ([]byte, error)
	// check reads what the provider says about itself, anew.
	check(ctx context.Context) (keep.Step, error)
}

// Open prepares a provider; nothing is sent yet.
func Open(s keep.Source) (*Provider, error) {
	trust, err := source.Trusted(s.Trust)
	if err != nil {
		return nil, err
	}
	p := &Provider{set: s, client: &http.Client{
		Transport: bounded{&http.Transport{TLSClientConfig: &tls.Config{RootCAs: trust, MinVersion: tls.VersionTLS12}, Proxy: nil,
			MaxIdleConnsPerHost: 4, MaxConnsPerHost: 16, IdleConnTimeout: 30 * time.Second, MaxResponseHeaderBytes: 64 << 10}},
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("it sends elsewhere, where nobody is asked")
		},
	}}
	switch s.Standard {
	case keep.SAML:
		p.speaks, err = openSAML(&p.set, p.client)
	default:
		p.speaks = &openID{set: &p.set, client: p.client}
	}
	return p, err
}

// bounded reads no more of an answer than is worth reading.
type bounded struct{ http.RoundTripper }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		answer.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(answer.Body, maxRead), answer.Body}
	}
	return answer, err
}

// Close implements [source.Asker].
func (p *Provider) Close() { p.client.CloseIdleConnections() }

// Ask implements [source.Asker].
func (p *Provider) Ask(context.Context, source.Question) (*source.Person, error) {
	return nil, source.ErrBrowserOnly
}

// Look implements [source.Asker].
func (p *Provider) Look(context.Context, string) (*source.Person, error) {
	return nil, errors.ErrUnsupported
}

// Begin implements [source.Browsing].
func (p *Provider) Begin(ctx context.Context, origin string) (string, source.Journey, error) {
	return p.speaks.begin(ctx, origin)
}

// End implements [source.Browsing].
func (p *Provider) End(ctx context.Context, j source.Journey, answer url.Values) (who *source.Listed, err error) {
	defer func() { // what comes from outside is read by libraries
		if cause := recover(); cause != nil {
			who, err = nil, fmt.Errorf("its answer can't be read: %v", cause)
		}
	}()
	return p.speaks.end(ctx, j, answer)
}

// Describe implements [source.Browsing].
func (p *Provider) Describe(origin string) ([]byte, error) {
	return p.speaks.describe(origin)
}

// Check implements [source.Asker].
func (p *Provider) Check(ctx context.Context, _ source.Question) ([]keep.Step, *source.Person) {
	step, err := p.speaks.check(ctx)
	if err != nil {
		return []keep.Step{{Name: "reached", Say: source.SayNetwork(err)}}, nil
	}
	return []keep.Step{step}, nil
}

// away tells of a provider that could not be asked, unless the one who asks has left.
func away(ctx context.Context, what string, err error) error {
	return cmp.Or[error](context.Cause(ctx), &source.Away{Cause: fmt.Errorf("%s: %w", what, err)})
}

// claims are what a provider says of somebody, by name.
type claims map[string][]string

// person reads them. ID is what the provider calls them for ever.
func (c claims) person(s *keep.Source, id, name string) (*source.Listed, error) {
	switch {
	case id == "":
		return nil, errors.New("it does not say who that is for ever")
	case name == "":
		return nil, fmt.Errorf("it says no name for them: nothing in %s", s.NameAttribute)
	}
	p := &source.Listed{Name: name, Person: source.Person{ID: id, Groups: c[s.GroupAttribute]}}
	if mail := c[s.MailAttribute]; len(mail) > 0 {
		p.Mail = mail[0]
	}
	return p, nil
}

// one is the only value of a claim; "" where there is none, an error where there are several.
func (c claims) one(name string) (string, error) {
	values := c[name]
	if len(values) > 1 {
		return "", fmt.Errorf("it says %d names for them in %s", len(values), name)
	}
	return strings.Join(values, ""), nil
}

// add keeps a value of a claim that is worth keeping.
func (c claims) add(name, value string) {
	if value != "" && len(value) <= maxValue && len(c[name]) < maxValues {
		c[name] = append(c[name], value)
	}
}

// remembered is what a provider said about itself a while ago.
type remembered[T any] struct {
	mu sync.Mutex
	it T
	at time.Time
	// doubted says that it may have changed since; it is good until something newer is there.
	doubted bool
}

// doubtPace is how often it is read anew because somebody brought what did not fit: anybody may.
const doubtPace = time.Minute

// get gives it, read anew once it is old.
func (r *remembered[T]) get(read func() (T, error)) (T, error) {
	r.mu.Lock()
	it, age, doubted := r.it, time.Since(r.at), r.doubted
	r.doubted = false
	known := !r.at.IsZero() && age >= 0 && age < knownFor
	r.mu.Unlock()
	if known && !doubted {
		return it, nil
	}
	newer, err := read()
	if err == nil {
		r.mu.Lock()
		r.it, r.at = newer, time.Now()
		r.mu.Unlock()
		return newer, nil
	}
	if known {
		return it, nil
	}
	return newer, err
}

// doubt has it read anew, not more often than once a minute.
func (r *remembered[T]) doubt() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.doubted = r.doubted || time.Since(r.at) > doubtPace
}

// forget has it read anew.
func (r *remembered[T]) forget() {
	r.mu.Lock()
	r.at = time.Time{}
	r.mu.Unlock()
}
