package signin

import (
	"context"
	"crypto/rand"
	"errors"
	"net/url"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
	"urbankeep/internal/people/source/book"
	"urbankeep/internal/records"
)

// Journeys are browsers that were sent to providers of single sign-on, by the state that they come back with. The zero
// value is ready.
type Journeys struct{ waiting[journey] }

// journey is a browser that is away.
type journey struct {
	source.Journey
	of      string      // the source
	face    keep.Face   // whose page sent it
	browser keep.Secret // that only it has
	link    string      // code of the SFTP client that is to be let in; "": the browser itself
	posted  *arrival    // what it has brought already; nil: nothing
}

// arrival is what came of a journey.
type arrival struct {
	who *source.Listed
	err error
}

// Face is the face whose page sent a browser away that comes back with that state.
func (j *Journeys) Face(state string) (keep.Face, bool) {
	one, ok := j.look(state)
	return one.face, ok
}

// Posted takes what a page of the provider has the browser bring (SAML Bindings 2.0, section 3.5). It comes without what
// only that browser has, for it comes from another site: so the browser must come once more, and is proved then.
func (j *Journeys) Posted(ctx context.Context, b *book.Book, state string, answer url.Values) {
	one, ok := j.look(state)
	if !ok || one.posted != nil {
		return
	}
	came := arrive(ctx, b, one, answer)
	j.change(state, func(one *journey) {
		if one.posted == nil {
			one.posted = came
		}
	})
}

func arrive(ctx context.Context, b *book.Book, one journey, answer url.Values) *arrival {
	s := b.Source(one.of)
	if s == nil {
		return &arrival{err: &source.Away{Cause: errors.New("it is off")}}
	}
	who, err := s.End(ctx, one.Journey, answer)
	return &arrival{who, err}
}

// depart sends a browser to a source.
func (j *Journeys) depart(ctx context.Context, v Visitor, s *book.Source, origin string, one journey) (where string, browser keep.Secret, err error) {
	if one.browser == "" {
		one.browser = keep.Secret(rand.Text())
	}
	where, one.Journey, err = s.Begin(ctx, origin)
	if err != nil {
		return "", "", err
	}
	one.of = s.Name
	j.add(v, one.State, one)
	return where, one.browser, nil
}

// back is who comes back with a state, and what came of it; an error when that browser was not sent away.
func (j *Journeys) back(ctx context.Context, b *book.Book, browser keep.Secret, answer url.Values, face keep.Face) (one journey, came *arrival, err error) {
	one, ok := j.take(answer.Get("state"), func(one journey) bool { return one.face == face && one.browser == browser })
	if !ok {
		return one, nil, errOver
	}
	if came = one.posted; came == nil {
		came = arrive(ctx, b, one, answer)
	}
	return one, came, nil
}

var errNoSSO = keep.Refuse(keep.NotFound, "there is no such single sign-on: open the page again")

// errSSOAway is what a browser hears while a provider can't be asked.
func errSSOAway(cause error) error {
	return &keep.Fault{Reason: keep.SourceAway, Say: "the single sign-on can't be reached now: try again later", Cause: cause}
}

// LeaveForSSO sends a browser to a source of single sign-on, to come back to the portal: for itself, or for the SFTP client that
// waits under a link's code. What only that browser has it may have already.
func (a *Accounts) LeaveForSSO(ctx context.Context, v Visitor, name, origin, link string, browser keep.Secret) (where string, _ keep.Secret, err error) {
	s := a.Book.Source(name)
	if s == nil || s.Kind != keep.SSOKind {
		return "", "", errNoSSO
	}
	where, browser, err = a.Journeys.depart(ctx, v, s, origin, journey{face: keep.PortalFace, link: link, browser: browser})
	if err != nil {
		a.Log.Warn("a single sign-on can't be begun", "source", name, "cause", err)
		return "", "", errSSOAway(err)
	}
	return where, browser, nil
}

// BySSO proves an account by what a browser brings back; account is nil when that was for an SFTP client, which goes on.
func (a *Accounts) BySSO(ctx context.Context, v Visitor, t *Attempt, browser keep.Secret, answer url.Values) (account *keep.Effective, err error) {
	started := time.Now()
	one, came, err := a.Journeys.back(ctx, a.Book, browser, answer, keep.PortalFace)
	if err != nil {
		return nil, err
	}
	name := ""
	if came.who != nil {
		name = came.who.Name
	}
	account, reason, detail, cause := a.vouched(ctx, v, one.of, name, came)
	if reason == keep.NoReason && one.link != "" {
		if err := a.links.answer(one.link, opening{account, came.who.Until, "single sign-on, says " + one.of + ", in a browser at " + v.Address}); err == nil {
			return nil, nil
		}
		reason, detail = keep.BadCredentials, "the link was for another account, or nobody waits for it any more"
	}
	if reason == keep.NoReason && !account.SignInBy.TakesPassword(false) {
		reason, detail = keep.BadCredentials, "the account signs in with a key"
	}
	if reason != keep.NoReason {
		return nil, a.fail(ctx, v, name, started, reason, detail, cause)
	}
	if account, err = a.admit(ctx, v, t, account, started, "", "single sign-on, says "+one.of); err == nil {
		t.Until = came.who.Until
	}
	return account, err
}

// vouched is the account of who a source of single sign-on has proved; else the reason for the trail.
func (a *Accounts) vouched(ctx context.Context, v Visitor, of, name string, came *arrival) (account *keep.Effective, reason keep.Reason, detail string, cause error) {
	refuse := func(reason keep.Reason, detail string, cause error) (*keep.Effective, keep.Reason, string, error) {
		return nil, reason, detail, cause
	}
	var away *source.Away
	switch {
	case errors.As(came.err, &away):
		return refuse(keep.SourceAway, of+": "+came.err.Error(), came.err)
	case came.err != nil:
		return refuse(keep.BadCredentials, of+": "+came.err.Error(), came.err)
	case keep.CheckName("name", name) != nil, keep.SignInName(name) == keep.Anonymous:
		return refuse(keep.BadCredentials, of+" says a name that no account can have", nil)
	}
	s := a.Book.Source(of)
	if s == nil {
		return refuse(keep.SourceAway, "the source "+of+" is off", nil)
	}
	var holder *keep.Effective
	switch found, err := a.DB.Holder(ctx, name); {
	case err == nil:
		holder = found.Account
	case !errors.Is(err, records.ErrNotFound):
		return refuse(keep.Failure, "the account could not be checked", err)
	}
	route := a.Book.RouteOf(name)
	switch {
	case holder != nil && holder.Source != s.Name:
		return refuse(keep.BadCredentials, "the account comes from "+holder.From()+", and "+of+" has somebody of that name", nil)
	case !route.Names(s.Name):
		return refuse(keep.BadCredentials, "the route "+route.Pattern+" does not ask "+of, nil)
	case holder == nil && !s.Makes:
		return refuse(keep.BadCredentials, "no such account, though "+of+" knows them: it makes none", nil)
	}
	account, err := a.Settle(ctx, v, s.Source, name, holder, &came.who.Person)
	if err != nil {
		return refuse(keep.SourceAway, "the account can't be as "+of+" says: "+err.Error(), err)
	}
	return account, keep.NoReason, "", nil
}
