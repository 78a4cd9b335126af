package signin

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/source/book"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

const (
	// CookieLife is how long an operator stays signed in to the console.
	CookieLife = 12 * time.Hour
	// SetupLife is how long a set-up link works.
	SetupLife = 24 * time.Hour
)

// Operators proves operators.
type Operators struct {
	DB      *records.DB
	Trail   *audit.Trail
	Hasher  *passwords.Hasher
	Guard   *Guard        // the one of the accounts
	Delay   time.Duration // of a failure
	Repeats *Repeats

	Book     *book.Book // of the other sources
	Journeys *Journeys  // of browsers that sign in there

	ceremonies ceremonies
}

var errTooMany = keep.Refuse(keep.TooManyAttempts, "too many wrong tries from this address: try again later")

// failed counts a failed try at what target names.
func (o *Operators) failed(v Visitor, target string) { countFailure(o.Guard, o.Trail, v, target) }

// SignIn proves an operator by password, and by a one-time code where it has those, and
// gives a cookie that stands for it.
func (o *Operators) SignIn(ctx context.Context, v Visitor, name string, password keep.Secret, code string) (*keep.Operator, keep.Secret, error) {
	started := time.Now()
	r := v.record("", keep.OperatorSignIn)
	r.Operator = cut(name)
	target := OperatorTarget(name)
	refuse := func(why *keep.Fault, wait time.Duration) (*keep.Operator, keep.Secret, error) {
		r.Outcome, r.Reason, r.Duration = keep.Refused, why.Reason, time.Since(started)
		o.Repeats.Refused(r)
		select {
		case <-time.After(wait - time.Since(started)):
		case <-ctx.Done():
		}
		return nil, "", why
	}
	if o.Guard.Claim(target, v.Address) {
		return refuse(errTooMany, 0)
	}
	ctx = o.Guard.known(ctx, v)
	operator, err := o.DB.Operator(ctx, name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, "", err
	}
	var hash keep.Secret
	if err == nil {
		hash = operator.PasswordHash
	}
	ok, err := o.Hasher.Matches(ctx, hash, password)
	if err != nil {
		return nil, "", err
	}
	if !ok {
		o.failed(v, target)
		return refuse(errCredentials, o.Delay)
	}
	o.Guard.Proved(target, v.Address)
	if operator.CodeSecret != "" {
		if code == "" {
			return refuse(errCodeNeeded, 0)
		}
		if why := tryCode(o.Guard, o.Trail, v, target); why != nil {
			return refuse(why, o.Delay)
		}
		if r.Detail, err = o.spendCode(ctx, operator, code); errors.Is(err, records.ErrNotFound) {
			o.failed(v, target)
			return refuse(errCode, o.Delay)
		} else if err != nil {
			return nil, "", err
		}
	}
	return o.welcome(ctx, v, r, operator, started, CookieLife)
}

// welcome records the sign-in of a proved operator, and gives a cookie that stands for it.
func (o *Operators) welcome(ctx context.Context, v Visitor, r keep.AuditRecord, operator *keep.Operator, started time.Time, life time.Duration) (*keep.Operator, keep.Secret, error) {
	r.Outcome, r.Duration = keep.Done, time.Since(started)
	if err := o.Trail.Record(r); err != nil {
		return nil, "", err
	}
	if err := o.DB.NoteOperator(ctx, operator.ID, started); err != nil {
		return nil, "", err
	}
	o.Guard.Succeeded(OperatorTarget(operator.Name), v.Address, true)
	cookie, err := o.prove(ctx, records.Proof{Kind: "cookie", Operator: operator.ID, Address: v.Address}, life)
	return operator, cookie, err
}

var (
	errCredentials = keep.Refuse(keep.BadCredentials, "the name or password is not right")
	errCodeNeeded  = keep.Refuse(keep.CodeNeeded, "the password is right: give the six digits that your authenticator shows now, or a recovery code")
	errCode        = keep.Refuse(keep.BadCredentials, "the code is not right, or was used before: wait for the next one; a recovery code works once")
)

// prove makes a secret and remembers its digest.
func (o *Operators) prove(ctx context.Context, p records.Proof, life time.Duration) (keep.Secret, error) {
	secret := keep.Secret(rand.Text())
	p.Digest, p.Created = digest(secret), time.Now()
	p.Expires = p.Created.Add(life)
	return secret, o.DB.AddProof(ctx, p)
}

func digest(secret keep.Secret) []byte {
	sum := sha256.Sum256([]byte(secret.Reveal()))
	return sum[:]
}

// NewSetup makes the secret of a set-up link, and ends every earlier one.
func (o *Operators) NewSetup(ctx context.Context) (keep.Secret, error) {
	if err := o.DB.DropProofs(ctx, "setup"); err != nil {
		return "", err
	}
	return o.prove(ctx, records.Proof{Kind: "setup", Label: "first operator"}, SetupLife)
}

// SetUp makes the first operator, an owner, and spends the set-up link.
func (o *Operators) SetUp(ctx context.Context, v Visitor, secret keep.Secret, name string, password keep.Secret) (*keep.Operator, error) {
	if o.Guard.Locked("", v.Address) {
		return nil, errTooMany
	}
	operator, err := o.newOperator(ctx, name, keep.Owner, password)
	if err != nil {
		return nil, err
	}
	err = o.added(ctx, v, operator.Name, operator, func(ctx context.Context) error {
		return o.DB.AddFirstOperator(ctx, digest(secret), operator, time.Now())
	})
	if errors.Is(err, records.ErrNotFound) {
		o.failed(v, "")
		return nil, keep.Refuse(keep.BadCredentials, "the set-up link is spent or too old: restart the service for a new one")
	}
	return operator, err
}

// Add makes an operator.
func (o *Operators) Add(ctx context.Context, v Visitor, by, name string, role keep.Role, password keep.Secret) (*keep.Operator, error) {
	operator, err := o.newOperator(ctx, name, role, password)
	if err != nil {
		return nil, err
	}
	return operator, o.added(ctx, v, by, operator, func(ctx context.Context) error { return o.DB.AddOperator(ctx, operator) })
}

func (o *Operators) newOperator(ctx context.Context, name string, role keep.Role, password keep.Secret) (*keep.Operator, error) {
	if err := keep.CheckName("operator", name); err != nil {
		return nil, err
	}
	if err := role.Check(); err != nil {
		return nil, err
	}
	if err := passwords.Check(password, name); err != nil {
		return nil, err
	}
	hash, err := o.Hasher.Hash(ctx, password)
	return &keep.Operator{Name: name, Role: role, PasswordHash: hash, Created: time.Now().UTC()}, err
}

// added saves and records a new operator; by is who made it.
func (o *Operators) added(ctx context.Context, v Visitor, by string, operator *keep.Operator, save func(context.Context) error) error {
	r := v.record("", keep.OperatorAdd)
	r.Operator, r.Target, r.Outcome, r.Detail = by, operator.Name, keep.Done, "role "+string(operator.Role)
	err := o.Trail.Change(ctx, r, save)
	if errors.Is(err, records.ErrTaken) {
		return &keep.FieldError{Field: "operator", Say: "the name is taken: choose another"}
	}
	return err
}

// Change is what may change of an operator; nil fields stay.
type Change struct {
	Role     *keep.Role
	Password *keep.Secret // ends its console sign-ins, tokens and passkeys
	NoCodes  bool         // it needs no one-time codes any more
	NoKeys   bool         // its passkeys end
	Source   *string      // it comes from there from now on, and what proved it here ends; "": it is one of the own records
}

// Set changes an operator; by asks for it.
func (o *Operators) Set(ctx context.Context, v Visitor, by, name string, c Change) (*keep.Operator, error) {
	operator, err := o.find(ctx, name)
	if err != nil {
		return nil, err
	}
	var said, endings []string
	if c.Role != nil && *c.Role != operator.Role {
		if err := c.Role.Check(); err != nil {
			return nil, err
		}
		said = append(said, fmt.Sprintf("role %s, was %s", *c.Role, operator.Role))
		operator.Role = *c.Role
	}
	if c.Source != nil && *c.Source != operator.Source {
		if err := o.moveTo(operator, *c.Source, c.Password); err != nil {
			return nil, err
		}
		said, endings = append(said, "comes from "+cmp.Or(operator.Source, keep.OwnSource)), append(endings, "cookie", "recovery")
		c.NoKeys = true
	}
	if c.Password != nil {
		if operator.Source != "" {
			return nil, &keep.FieldError{Field: "password", Say: "no password is kept here: " + operator.Source + " vouches for " + operator.Name}
		}
		if err := passwords.Check(*c.Password, operator.Name); err != nil {
			return nil, err
		}
		if operator.PasswordHash, err = o.Hasher.Hash(ctx, *c.Password); err != nil {
			return nil, err
		}
		said, endings = append(said, "password changed"), append(endings, "cookie", "token")
		c.NoKeys = true
	}
	if c.NoCodes && operator.CodeSecret != "" {
		operator.CodeSecret = ""
		said, endings = append(said, "one-time codes off"), append(endings, "recovery")
	}
	also := nothingElse
	if c.NoKeys {
		keys, err := o.DB.Passkeys(ctx, operator.ID)
		if err != nil {
			return nil, err
		}
		if len(keys) > 0 {
			said = append(said, "passkeys removed")
			also = func(ctx context.Context) error { return o.DB.DropPasskeys(ctx, operator.ID, "") }
		}
	}
	if len(said) == 0 {
		NothingChanged(ctx)
		return operator, nil
	}
	return operator, o.save(ctx, v, by, operator, strings.Join(said, "; "), endings, nil, also)
}

// moveTo has another source vouch for an operator; what proved it before ends.
func (o *Operators) moveTo(operator *keep.Operator, source string, password *keep.Secret) error {
	s := o.Book.Source(source)
	switch {
	case source == "" && password == nil:
		return &keep.FieldError{Field: "password", Say: "give a password, too: nobody else vouches for " + operator.Name + " then"}
	case source != "" && (s == nil || len(s.Roles) == 0):
		return &keep.FieldError{Field: "source", Say: "no single sign-on named " + source + " gives operators their roles: source set NAME -role THEIRS=ROLE"}
	}
	operator.Source, operator.SourceID, operator.PasswordHash, operator.CodeSecret = source, "", "", ""
	return nil
}

func nothingElse(context.Context) error { return nil }

// save writes a changed operator, with what else changes then, and records it: all or nothing.
func (o *Operators) save(ctx context.Context, v Visitor, by string, operator *keep.Operator, said string, endings []string, recovery [][]byte, also func(context.Context) error) error {
	r := v.record("", keep.OperatorSet)
	r.Operator, r.Target, r.Outcome, r.Detail = by, operator.Name, keep.Done, said
	err := o.Trail.Change(ctx, r, func(ctx context.Context) error {
		return cmp.Or(o.DB.SaveOperator(ctx, operator, endings, recovery), also(ctx))
	})
	if errors.Is(err, records.ErrLastOwner) {
		return lastOwner(operator.Name)
	}
	return err
}

func lastOwner(name string) error {
	return keep.Refuse(keep.InUse, name+" is the last owner: make another operator an owner first")
}

// Remove removes an operator; its console sign-ins and tokens end with it.
func (o *Operators) Remove(ctx context.Context, v Visitor, by, name string) error {
	operator, err := o.find(ctx, name)
	if err != nil {
		return err
	}
	r := v.record("", keep.OperatorRemove)
	r.Operator, r.Target, r.Outcome, r.Detail = by, operator.Name, keep.Done, "role "+string(operator.Role)
	err = o.Trail.Change(ctx, r, func(ctx context.Context) error { return o.DB.DeleteOperator(ctx, operator.ID) })
	if errors.Is(err, records.ErrLastOwner) {
		return lastOwner(operator.Name)
	}
	return err
}

func (o *Operators) find(ctx context.Context, name string) (*keep.Operator, error) {
	operator, err := o.DB.Operator(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		err = keep.NoSuch("operator", name)
	}
	return operator, err
}

// ChangePassword gives an operator a new password of its own choice: now is the one it
// has. Its console sign-ins end, but the one it asks from.
func (o *Operators) ChangePassword(ctx context.Context, v Visitor, name string, now, next, cookie keep.Secret) error {
	operator, err := o.prover(ctx, v, name, now, cookie)
	if err != nil {
		return err
	}
	if err := passwords.Check(next, operator.Name); err != nil {
		return err
	}
	if operator.PasswordHash, err = o.Hasher.Hash(ctx, next); err != nil {
		return err
	}
	return o.save(ctx, v, operator.Name, operator, "password changed", nil, nil, func(ctx context.Context) error {
		return o.DB.DropOtherCookies(ctx, operator.ID, digest(cookie))
	})
}

// freshFor is how long after a single sign-on an operator need not prove itself once more.
const freshFor = 10 * time.Minute

// prover is an operator who is signed in with a cookie and shows the password once more, before something changes that outlives
// the cookie. Who has none here must have just signed in.
func (o *Operators) prover(ctx context.Context, v Visitor, name string, now, cookie keep.Secret) (*keep.Operator, error) {
	operator, err := o.find(ctx, name)
	if err != nil {
		return nil, err
	}
	if operator.Source != "" {
		_, p, err := o.DB.Proven(ctx, "cookie", digest(cookie), time.Now())
		if age := time.Since(p.Created); err != nil || age < 0 || age > freshFor {
			return nil, errors.Join(err, keep.Refuse(keep.PasswordToo, "you sign in by single sign-on: sign out and in again, and do it within 10 minutes"))
		}
		return operator, nil
	}
	if o.Guard.Locked(OperatorTarget(name), v.Address) {
		return nil, errTooMany
	}
	if ok, err := o.Hasher.Matches(ctx, operator.PasswordHash, now); err != nil {
		return nil, err
	} else if !ok {
		o.failed(v, OperatorTarget(name))
		return nil, &keep.FieldError{Field: "now", Say: "it is not the password you have"}
	}
	return operator, nil
}
