package signin

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
	"urbankeep/internal/people/source/book"
	"urbankeep/internal/records"
)

// askElsewhere says by which route others than the service's own records are asked for a name; why refuses an account that
// its route does not ask for. Both are nil where the own records say it all.
func (a *Accounts) askElsewhere(name string, account *keep.Effective) (route *keep.Route, why *keep.Fault) {
	if a.Book == nil {
		return nil, nil
	}
	r := a.Book.RouteOf(name)
	if account != nil {
		if why := r.Asks(account.Account); why != nil {
			return nil, why
		}
		if account.Source == "" {
			return nil, nil
		}
	} else if slices.Equal(r.Sources, []string{keep.OwnSource}) {
		return nil, nil
	}
	return &r, nil
}

// byOthers proves an account by a password that its source knows; account is nil where there is none of the name, and one
// may be made.
func (a *Accounts) byOthers(ctx context.Context, v Visitor, t *Attempt, name string, account *keep.Effective, route *keep.Route, password keep.Secret, started time.Time) (*keep.Effective, error) {
	fail := func(reason keep.Reason, detail string, cause error) (*keep.Effective, error) {
		return nil, a.fail(ctx, v, name, started, reason, detail, cause)
	}
	asked := slices.DeleteFunc(slices.Clone(route.Sources), func(s string) bool { return s == keep.OwnSource })
	switch {
	case a.Guard.Claim(name, v.Address):
		return fail(keep.LockedOutNow, lockedOut, nil)
	case account == nil:
		if err := keep.CheckName("name", name); err != nil {
			return fail(keep.BadCredentials, "no such account", err)
		}
	case account.SignInBy == keep.ByBoth && t.proved == nil:
		return fail(keep.BadCredentials, "the account signs in with a key and a password, and no key was proved before", nil)
	case !account.SignInBy.TakesPassword(t.proved != nil):
		return fail(keep.BadCredentials, "the account signs in with a key only", nil)
	default:
		asked = []string{account.Source}
	}
	for _, of := range asked {
		s := a.Book.Source(of)
		if s == nil {
			return fail(keep.SourceAway, "the source "+of+" is off", nil)
		}
		p, challenged, err := a.askOne(ctx, v, t, s, name, password)
		var asks *source.Challenge
		var away *source.Away
		var often *keep.Fault
		switch {
		case errors.As(err, &often) && often.Reason == keep.TooManyAttempts:
			return nil, a.ask(v, name, often)
		case account == nil && (errors.Is(err, source.ErrNobody) || errors.Is(err, source.ErrBrowserOnly)):
			continue
		case errors.Is(err, source.ErrBrowserOnly):
			return fail(keep.BadCredentials, "a password, and "+of+" signs people in with a browser only", nil)
		case errors.Is(err, source.ErrNobody), errors.Is(err, source.ErrWrong):
			a.unvouch(ctx, s, account, password, errors.Is(err, source.ErrNobody))
			return fail(keep.BadCredentials, err.Error()+", says "+of, nil)
		case errors.As(err, &asks):
			return nil, a.ask(v, name, keep.Refuse(keep.CodeNeeded, cmp.Or(asks.Say, "the source asks for more")))
		case errors.As(err, &away):
			since, ok, wrong := a.meanwhile(ctx, s, account, &password)
			if ok {
				a.Log.Warn("a source is away, and who signed in before is let in without it", "source", of, "account", name, "cause", err)
				return a.admitElsewhere(ctx, v, t, account, started, "password, that "+of+" said was right "+ago(since)+"; it is away now", false)
			}
			if wrong { // which counts as any other guess
				return fail(keep.BadCredentials, "not the password that "+of+" let it in with; it is away now", nil)
			}
			return fail(keep.SourceAway, of+": "+err.Error(), err)
		case err != nil:
			return fail(keep.Failure, of+": "+err.Error(), err)
		case p.Closed != "":
			a.unvouch(ctx, s, account, password, true)
			return fail(keep.Suspended, of+" says: "+p.Closed, nil)
		}
		if account == nil && !s.Makes {
			return fail(keep.BadCredentials, "no such account, though "+of+" knows the name and the password: it makes none", nil)
		}
		settled, err := a.Settle(ctx, v, s.Source, name, account, p)
		if err != nil {
			return fail(keep.SourceAway, "the account can't be as "+of+" says: "+err.Error(), err)
		}
		if !challenged { // else the password alone never let it in
			a.noteVouched(ctx, s, settled, &password)
		}
		return a.admitElsewhere(ctx, v, t, settled, started, "password, says "+of, challenged)
	}
	return fail(keep.BadCredentials, "no such account: "+strings.Join(asked, " and ")+" know nobody of that name", nil)
}

// admitElsewhere lets in who a source vouched for, once a second factor is there too.
func (a *Accounts) admitElsewhere(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time, how string, challenged bool) (*keep.Effective, error) {
	a.Guard.Proved(account.Name, v.Address)
	if !challenged {
		if err := a.second(ctx, v, t, account, started); err != nil {
			return nil, err
		}
	}
	if t.proved != nil {
		return a.admitBy(ctx, v, t, account, started, t.proved.fingerprint, t.proved.how+" and "+how, false)
	}
	return a.admitBy(ctx, v, t, account, started, "", how, false)
}

// ask records what somebody is asked for, and says it.
func (a *Accounts) ask(v Visitor, name string, why *keep.Fault) error {
	r := v.record(name, keep.SignIn)
	r.Outcome, r.Reason, r.Detail = keep.Refused, why.Reason, why.Say
	a.Repeats.Refused(r)
	return why
}

// askOne asks one source; where it has asked for more, with the answer to that.
func (a *Accounts) askOne(ctx context.Context, v Visitor, t *Attempt, s *book.Source, name string, password keep.Secret) (p *source.Person, challenged bool, err error) {
	q := source.Question{Name: name, Password: password, From: v.Address}
	mine := challengeKey(s.Name, name, v.Address, password)
	if t.Code != "" {
		if asked, ok := a.challenges.take(mine, inTime); ok {
			if why := tryCode(a.Guard, a.Trail, v, name); why != nil {
				return nil, false, why
			}
			q.State, q.Password, challenged = asked.state, keep.Secret(t.Code), true
		}
	}
	p, err = s.Ask(ctx, q)
	var asks *source.Challenge
	if errors.As(err, &asks) {
		a.challenges.add(v, mine, challenge{asks.State, time.Now()})
	}
	return p, challenged, err
}

// ago says when something was.
func ago(at time.Time) string { return time.Since(at).Round(time.Second).String() + " ago" }

// meanwhile reports whether somebody may be let in though their source is away: because it let them in a short while ago,
// with the same password where there is one; wrong says that it was another.
func (a *Accounts) meanwhile(ctx context.Context, s *book.Source, account *keep.Effective, password *keep.Secret) (since time.Time, ok, wrong bool) {
	if s.Source.Away != keep.AwayRecent || account == nil {
		return since, false, false
	}
	last, err := a.DB.LastVouched(ctx, account.ID)
	if err != nil || last.Source != s.Name {
		return since, false, false
	}
	if since = last.Seen; password != nil {
		since = last.At
		if matches, err := a.Hasher.Matches(ctx, last.Hash, *password); !matches || err != nil {
			return since, false, err == nil && last.Hash != ""
		}
	}
	age := time.Since(since)
	return since, age > -time.Minute && age < s.Recent.Duration(), false // what lies in the future was written under a wrong clock
}

// unvouch forgets with what a source let somebody in, whom it does not let in any more: at all, or with that password.
func (a *Accounts) unvouch(ctx context.Context, s *book.Source, account *keep.Effective, password keep.Secret, all bool) {
	if s.Source.Away != keep.AwayRecent || account == nil {
		return
	}
	last, err := a.DB.LastVouched(ctx, account.ID)
	if err == nil && !all && last.Hash != "" {
		all, err = a.Hasher.Matches(ctx, last.Hash, password)
	}
	if err == nil && all {
		err = a.DB.DropVouchedOf(ctx, account.ID)
	}
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		a.Log.Error("with what a source let somebody in is not forgotten", "account", account.Name, "cause", err)
	}
}

// vouchedPace is how often it is written down that a source let somebody in.
const vouchedPace = time.Minute

// noteVouched keeps with what a source let somebody in, for the time when it is away; password is nil where there was none.
func (a *Accounts) noteVouched(ctx context.Context, s *book.Source, account *keep.Effective, password *keep.Secret) {
	if s.Source.Away != keep.AwayRecent {
		return
	}
	now := time.Now()
	last, err := a.DB.LastVouched(ctx, account.ID)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		a.Log.Error("who a source vouched for last can't be read", "account", account.Name, "cause", err)
		return
	}
	if last.Source != s.Name {
		last = records.Vouched{Source: s.Name}
	}
	fresh := now.Sub(last.Seen) < vouchedPace && !now.Before(last.Seen)
	last.Seen = now
	if password != nil {
		same, err := a.Hasher.Matches(ctx, last.Hash, *password)
		if err == nil && (!same || last.Hash == "") {
			fresh = false
			last.Hash, err = a.Hasher.Hash(ctx, *password)
		}
		if err != nil {
			return
		}
		fresh = fresh && now.Sub(last.At) < vouchedPace
		last.At = now
	}
	if fresh {
		return
	}
	if err := a.DB.SaveVouched(ctx, account.ID, last); err != nil {
		a.Log.Error("who a source vouched for is not kept", "account", account.Name, "cause", err)
	}
}

// still asks the source of an account whose holder has proved themselves without it whether they may sign in; "" when they
// may, else the reason for the trail. What the source says of the account counts from now on.
func (a *Accounts) still(ctx context.Context, v Visitor, account *keep.Effective) (*keep.Effective, keep.Reason, string) {
	if a.Book == nil {
		return account, keep.NoReason, ""
	}
	if why := a.Book.RouteOf(account.Name).Asks(account.Account); why != nil {
		return nil, why.Reason, why.Say
	}
	if account.Source == "" {
		return account, keep.NoReason, ""
	}
	s := a.Book.Source(account.Source)
	if s == nil {
		return nil, keep.SourceAway, "the source " + account.Source + " is off"
	}
	p, err := s.Look(ctx, account.Name)
	var away *source.Away
	switch {
	case errors.Is(err, errors.ErrUnsupported):
		return account, keep.NoReason, ""
	case errors.Is(err, source.ErrNobody):
		a.unvouch(ctx, s, account, "", true)
		return nil, keep.Suspended, s.Name + " knows nobody of that name any more"
	case errors.As(err, &away):
		if _, ok, _ := a.meanwhile(ctx, s, account, nil); ok {
			return account, keep.NoReason, ""
		}
		return nil, keep.SourceAway, s.Name + ": " + err.Error()
	case err != nil:
		return nil, keep.Failure, s.Name + ": " + err.Error()
	case p.Closed != "":
		a.unvouch(ctx, s, account, "", true)
		return nil, keep.Suspended, s.Name + " says: " + p.Closed
	}
	settled, err := a.Settle(ctx, v, s.Source, account.Name, account, p)
	if err != nil {
		return nil, keep.SourceAway, "the account can't be as " + s.Name + " says: " + err.Error()
	}
	a.noteVouched(ctx, s, settled, nil)
	return settled, keep.NoReason, ""
}

// proveElsewhere has who comes from a source show the password once more.
func (a *Accounts) proveElsewhere(ctx context.Context, v Visitor, account *keep.Effective, password keep.Secret) (right bool, err error) {
	s := a.Book.Source(account.Source)
	if s == nil {
		return false, keep.Refuse(keep.SourceAway, "who vouches for the account is off now: ask the administrator")
	}
	p, err := s.Ask(ctx, source.Question{Name: account.Name, Password: password, From: v.Address})
	var asks *source.Challenge
	switch {
	case errors.Is(err, source.ErrNobody), errors.Is(err, source.ErrWrong):
		return false, nil
	case errors.Is(err, source.ErrBrowserOnly):
		return false, keep.Refuse(keep.CodeNeeded, "you sign in by single sign-on: sign out and in again, and change it within 10 minutes")
	case errors.As(err, &asks): // which some do whatever the password is
		return false, keep.Refuse(keep.CodeNeeded, "who vouches for the account asks for more than a password, which can't be answered here: ask the administrator for the change")
	case err != nil:
		return false, &keep.Fault{Reason: keep.SourceAway, Say: "who vouches for the account can't be asked now: try again later", Cause: err}
	}
	return p.Closed == "" && SameAs(account.Account, p) == nil, nil
}

// errOther says that a name belongs to somebody else now.
func errOther(of string) error {
	return fmt.Errorf("%s has somebody else of that name now than the account was made for: account set NAME -source %s hands it over", of, of)
}

// SameAs reports an error where a source calls somebody otherwise than the account that was made for them.
func SameAs(account *keep.Account, p *source.Person) error {
	if account.SourceID != "" && account.SourceID != p.ID {
		return errOther(account.Source)
	}
	return nil
}

// challengeFor is how long a source's question may be answered: from the same address, with the same password.
const challengeFor = 2 * time.Minute

// challenge is a question of a source that waits for an answer; it waits under who was asked, from where, with what password.
type challenge struct {
	state []byte
	asked time.Time
}

func challengeKey(of, name, address string, password keep.Secret) string {
	return fmt.Sprintf("%s\x00%s\x00%s\x00%x", of, strings.ToLower(name), address, sha256.Sum256([]byte(password.Reveal())))
}

func inTime(c challenge) bool { return time.Since(c.asked) < challengeFor }
