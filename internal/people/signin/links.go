package signin

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/keep"
)

const (
	// LinkLife is how long a client waits for its holder to sign in with a browser.
	LinkLife = 3 * time.Minute
	// maxLinks and maxLinksPerNetwork bound the clients that wait.
	maxLinks, maxLinksPerNetwork = 500, 20
	// codeLetters have no two that look alike; a code of linkLetters can't be guessed within its life.
	codeLetters = "BCDFGHJKLMNPQRSTVWXZ23456789"
	linkLetters = 12
)

// Link is an SFTP client that waits for its holder to sign in with a browser (RFC 8628, in spirit).
type Link struct {
	Code      string // as in BCDF-GHJK-LMNP
	Account   string
	Address   string // of the client
	Sources   []keep.Source
	Passwords bool // a password may do as well
	Asked     time.Time

	opened chan opening
}

// opening is how a link was answered.
type opening struct {
	account *keep.Effective // nil: the holder said that it is not them
	until   time.Time       // as in Attempt
	how     string
}

// links are clients that wait. The zero value is ready.
type links struct {
	mu   sync.Mutex
	open map[string]*Link
}

func newCode() string {
	letters := make([]byte, linkLetters)
	for i := 0; i < len(letters); {
		var some [linkLetters]byte
		rand.Read(some[:])
		for _, b := range some {
			if at := int(b) & 31; at < len(codeLetters) && i < len(letters) {
				letters[i] = codeLetters[at]
				i++
			}
		}
	}
	text := string(letters)
	return text[:4] + "-" + text[4:8] + "-" + text[8:]
}

// plainLink is a code as it is kept, however somebody typed it.
func plainLink(code string) string {
	return strings.ToUpper(strings.ReplaceAll(strings.TrimSpace(code), " ", "-"))
}

func (l *links) add(one *Link) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	here := 0
	for _, other := range l.open {
		if network(other.Address) == network(one.Address) {
			here++
		}
	}
	if len(l.open) >= maxLinks || here >= maxLinksPerNetwork {
		return keep.Refuse(keep.TooManyAttempts, "too many wait for a sign-in with a browser")
	}
	if l.open == nil {
		l.open = map[string]*Link{}
	}
	l.open[one.Code] = one
	return nil
}

func (l *links) drop(code string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.open, code)
}

func (l *links) find(code string) *Link {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.open[plainLink(code)]
}

// answer lets in the client that waits under a code; account is nil to send it away. Each is answered once.
func (l *links) answer(code string, with opening) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	one := l.open[plainLink(code)]
	if one == nil || with.account != nil && !strings.EqualFold(with.account.Name, one.Account) {
		return errNoLink
	}
	delete(l.open, one.Code)
	one.opened <- with
	return nil
}

var errNoLink = keep.Refuse(keep.NotFound, "no client waits under that link any more: start it again")

// WouldLink says how an account may sign in with a browser instead of a password; nil where it may not. It looks at
// the name only: a link is offered, or not, whether there is such an account or not.
func (a *Accounts) WouldLink(v Visitor, name string) *Link {
	name = keep.SignInName(name)
	if a.Book == nil || keep.CheckName("name", name) != nil || name == keep.Anonymous {
		return nil
	}
	sources, passwords := a.Book.Browsing(a.Book.RouteOf(name))
	if len(sources) == 0 {
		return nil
	}
	l := &Link{Account: name, Address: v.Address, Passwords: passwords, opened: make(chan opening, 1)}
	for _, s := range sources {
		l.Sources = append(l.Sources, s.Source)
	}
	return l
}

// OfferLink has a client wait under a code of its own.
func (a *Accounts) OfferLink(l *Link) error {
	l.Code, l.Asked = newCode(), time.Now()
	return a.links.add(l)
}

// LinkOf is the client that waits under a code.
func (a *Accounts) LinkOf(code string) (*Link, error) {
	if one := a.links.find(code); one != nil {
		return one, nil
	}
	return nil, errNoLink
}

// DenyLink sends a client away that its holder does not know.
func (a *Accounts) DenyLink(v Visitor, code string) error {
	return a.links.answer(code, opening{how: "somebody at " + v.Address + " said in a browser that it is not theirs"})
}

// ByLink proves an account once its holder has signed in with a browser. It waits for that as long as ctx and the link last.
func (a *Accounts) ByLink(ctx context.Context, v Visitor, t *Attempt, l *Link) (account *keep.Effective, err error) {
	defer a.links.drop(l.Code)
	ctx, cancel := context.WithTimeout(ctx, LinkLife)
	defer cancel()
	select {
	case <-ctx.Done():
		r := v.record(l.Account, keep.SignIn)
		r.Outcome, r.Reason, r.Detail, r.Duration = keep.Refused, keep.Stalled, "nobody signed in with a browser", time.Since(l.Asked)
		if errors.Is(ctx.Err(), context.Canceled) {
			r.Reason, r.Detail = keep.ClientGone, "the client left before anybody signed in with a browser"
		}
		a.Repeats.Refused(r)
		return nil, errDenied(ctx.Err())
	case with := <-l.opened:
		started := time.Now()
		if with.account == nil {
			return nil, a.fail(ctx, v, l.Account, started, keep.BadCredentials, with.how, nil)
		}
		switch {
		case t.proved != nil:
			account, err = a.admit(ctx, v, t, with.account, started, t.proved.fingerprint, t.proved.how+" and "+with.how)
		case with.account.SignInBy.TakesPassword(false):
			account, err = a.admit(ctx, v, t, with.account, started, "", with.how)
		default:
			return nil, a.fail(ctx, v, l.Account, started, keep.BadCredentials, "the account signs in with a key, too, and none was proved before", nil)
		}
		if err == nil {
			t.Until = with.until
		}
		return account, err
	}
}
