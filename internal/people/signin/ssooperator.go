package signin

import (
	"context"
	"errors"
	"net/url"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
	"urbankeep/internal/records"
)

// LeaveForSSO sends a browser to a source of single sign-on, to come back to the console.
func (o *Operators) LeaveForSSO(ctx context.Context, v Visitor, name, origin string, browser keep.Secret) (where string, _ keep.Secret, err error) {
	if o.Guard.Locked("", v.Address) {
		return "", "", errTooMany
	}
	s := o.Book.Source(name)
	if s == nil || len(s.Roles) == 0 {
		return "", "", errNoSSO
	}
	where, browser, err = o.Journeys.depart(ctx, v, s, origin, journey{face: keep.ConsoleFace, browser: browser})
	if err != nil {
		return "", "", errSSOAway(err)
	}
	return where, browser, nil
}

// SignInBySSO proves an operator by what a browser brings back, makes one of who has a role for the first time, and gives a
// cookie that stands for it. Why somebody is refused only the trail says.
func (o *Operators) SignInBySSO(ctx context.Context, v Visitor, browser keep.Secret, answer url.Values) (*keep.Operator, keep.Secret, error) {
	started := time.Now()
	one, came, err := o.Journeys.back(ctx, o.Book, browser, answer, keep.ConsoleFace)
	if err != nil {
		return nil, "", err
	}
	r := v.record("", keep.OperatorSignIn)
	if came.who != nil {
		r.Operator = cut(came.who.Name)
	}
	operator, err := o.roleOf(ctx, v, one.of, came)
	if err != nil {
		r.Outcome, r.Reason, r.Detail, r.Duration = keep.Refused, keep.BadCredentials, one.of+": "+err.Error(), time.Since(started)
		var away *source.Away
		if errors.As(err, &away) {
			r.Outcome, r.Reason = keep.Failed, keep.SourceAway
		}
		o.Repeats.Refused(r)
		return nil, "", errCredentials
	}
	r.Detail = "single sign-on, says " + one.of
	life := CookieLife
	if end := came.who.Until; !end.IsZero() {
		life = min(life, time.Until(end))
	}
	return o.welcome(ctx, v, r, operator, started, life)
}

// roleOf is the operator that a source vouches for, made or changed as that says.
func (o *Operators) roleOf(ctx context.Context, v Visitor, of string, came *arrival) (*keep.Operator, error) {
	s := o.Book.Source(of)
	switch {
	case came.err != nil:
		return nil, came.err
	case s == nil:
		return nil, &source.Away{Cause: errors.New("it is off")}
	}
	who := came.who
	role := s.RoleFor(who.Groups)
	if role == "" {
		return nil, errors.New("they are in no group that has a role here")
	}
	operator, err := o.DB.Operator(ctx, who.Name)
	switch {
	case errors.Is(err, records.ErrNotFound):
		if err := keep.CheckName("operator", who.Name); err != nil {
			return nil, errors.New("it says a name that no operator can have")
		}
		operator = &keep.Operator{Name: who.Name, Role: role, Source: of, SourceID: who.ID, Created: time.Now().UTC()}
		return operator, o.added(ctx, v, "source "+of, operator, func(ctx context.Context) error { return o.DB.AddOperator(ctx, operator) })
	case err != nil:
		return nil, err
	case operator.Source != of:
		return nil, errors.New("the operator of that name does not come from there")
	case operator.SourceID != "" && operator.SourceID != who.ID:
		return nil, errors.New("it has somebody else of that name now than the operator was made for")
	}
	if operator.Role == role && operator.SourceID == who.ID {
		return operator, nil
	}
	said := "as its source says"
	if operator.Role != role {
		said = "role " + string(role) + ", was " + string(operator.Role) + ", " + said
	}
	operator.Role, operator.SourceID = role, who.ID
	return operator, o.save(ctx, v, "source "+of, operator, said, nil, nil, nothingElse)
}
