package rehearse

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"time"

	"urbankeep/internal/keep"
)

// Listener is a running listener to sign in on.
type Listener struct {
	keep.Listener
	Dial   string // host:port at which it is reached from here
	Secret keep.Secret
	Route  *keep.Route // of the account's name; nil: none is looked at
	Open   bool        // its network rules let this machine in
	// Pass is the one with which it is entered, and which of its paths are folders; nil: the account signs in.
	Pass    *keep.Pass
	Folders map[string]bool
	Over    keep.Protocol // what is spoken there, where that is not the listener's protocol alone
}

// Try is one thing that was tried.
type Try struct {
	Protocol keep.Protocol
	Listener string
	Does     string
	Path     string
	Expected bool
	Observed string // "allowed", "refused", or "failed" and how
	Why      string
}

// Agrees reports whether it went as it should.
func (t Try) Agrees() bool {
	return t.Observed == word(t.Expected)
}

func word(allowed bool) string {
	if allowed {
		return "allowed"
	}
	return "refused"
}

// client is a protocol's client. Its errors are a refusal where the server said no.
type client interface {
	list(at string) error
	download(at, want string) error
	upload(at, content string) error
	rename(at, to string) error
	remove(at string) error
	mkdir(at string) error
	rmdir(at string) error
	close()
}

// refusal is a server's no.
type refusal struct{ say string }

func (r *refusal) Error() string { return r.say }

// patience bounds each word that a client waits for.
const patience = 20 * time.Second

// Run signs in as an account on each listener and tries what the plan says. An
// account that may not sign in is tried too: it must be refused.
func Run(ctx context.Context, e *keep.Effective, listeners []Listener, scratch Scratch) ([]Try, error) {
	var tries []Try
	for n, l := range listeners {
		more, err := on(ctx, e, l, scratch, fmt.Sprint(n+1))
		if err != nil {
			return nil, err
		}
		tries = append(tries, more...)
	}
	return tries, nil
}

func on(ctx context.Context, e *keep.Effective, l Listener, scratch Scratch, mark string) ([]Try, error) {
	protocol := l.Protocol
	switch {
	case l.Pass != nil:
		protocol = keep.ByPass
	case protocol == keep.Web:
		protocol = l.Over
	}
	e = e.Over(protocol)
	var steps []step
	var err error
	if l.Pass != nil {
		e = e.Within(l.Pass.Scope())
		steps, err = planPass(e, l.Pass, l.Folders, scratch, mark)
	} else {
		steps, err = plan(e, scratch, mark)
	}
	if err != nil {
		return nil, fmt.Errorf("plant the files of the rehearsal: %w", err)
	}
	now := time.Now()
	in := Try{Protocol: protocol, Listener: l.Name, Does: "sign in", Path: "-", Expected: true, Why: "the account may sign in over " + string(protocol)}
	if e.Source != "" && l.Route != nil {
		in.Why += "; " + e.Source + " vouches for it, which the route " + l.Route.Pattern + " asks"
	}
	if l.Pass != nil {
		in.Does, in.Why = "open the link", "the pass is open"
	}
	switch closed := e.Closed(now); {
	case l.Pass != nil && l.Open:
		if why := cmp.Or(l.Pass.Closed(now), l.Pass.Allowed(e, now)); why != nil {
			in.Expected, in.Why = false, why.Say
		}
	case !l.Open:
		in.Expected, in.Why = false, "the network rules do not let this machine in"
	case closed != nil:
		in.Expected, in.Why = false, closed.Say
	case l.Pass == nil && l.Route != nil && l.Route.Asks(e.Account) != nil:
		in.Expected, in.Why = false, l.Route.Asks(e.Account).Say
	case !e.MayUse(protocol):
		in.Expected, in.Why = false, "the account may not sign in over "+string(protocol)
	}
	if in.Expected && protocol.IsFTP() && l.Encryption == keep.EncryptionOff && e.Encryption == keep.EncryptionRequired {
		in.Expected, in.Why = false, "the account may not sign in without encryption, and the listener has none"
	}
	c, err := dial(ctx, e.Name, l)
	in.Observed = observed(err)
	tries := []Try{in}
	if err != nil {
		return tries, nil
	}
	defer c.close()
	policy := keep.NewPolicy(e)
	for _, s := range steps {
		t := Try{Protocol: protocol, Listener: l.Name, Does: s.does, Path: s.at}
		t.Expected, t.Why = s.expect(policy, time.Now())
		err := s.try(c, s.at, s.to)
		t.Observed = observed(err)
		if s.seen != nil {
			switch there := s.seen(s.file, s.target); {
			case err == nil && !there:
				t.Observed = "failed: it was said to be done, and was not"
			case t.Observed == "refused" && there:
				t.Observed = "failed: it was refused, and done all the same"
			}
		}
		tries = append(tries, t)
	}
	return tries, nil
}

func observed(err error) string {
	var no *refusal
	switch {
	case err == nil:
		return "allowed"
	case errors.As(err, &no):
		return "refused"
	}
	return "failed: " + err.Error()
}

func dial(ctx context.Context, account string, l Listener) (client, error) {
	raw, err := (&net.Dialer{Timeout: patience}).DialContext(ctx, "tcp", l.Dial)
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(raw, l.Introduction(raw.LocalAddr())); err != nil {
		raw.Close()
		return nil, err
	}
	var c client
	switch {
	case l.Pass != nil:
		c, err = openPass(raw, l)
	case l.Protocol == keep.SFTP:
		c, err = signInSFTP(raw, account, l.Secret)
	case l.Over == keep.WebDAV:
		c, err = signInDAV(raw, account, l)
	case l.Protocol == keep.Web:
		c, err = signInPortal(raw, account, l)
	default:
		c, err = signInFTP(raw, account, l)
	}
	if err != nil {
		raw.Close()
		return nil, err
	}
	return c, nil
}
