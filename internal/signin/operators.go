package signin

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"urbankeep/internal/audit"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

const (
	// CookieLife is how long an operator stays signed in to the console.
	CookieLife = 12 * time.Hour
	// SetupLife is how long a set-up link works.
	SetupLife = 24 * time.Hour
	// triesPerMinute bounds the sign-ins from one address; maxCounted bounds the
	// addresses that are remembered for it.
	triesPerMinute = 10
	maxCounted     = 4096
)

// Operators proves operators.
type Operators struct {
	DB     *records.DB
	Trail  *audit.Trail
	Hasher *Hasher
	Delay  time.Duration // of a failure; see [FailureDelay]

	mu    sync.Mutex
	tries map[string]*rate.Limiter // by address
}

// allowed counts an attempt and reports whether it may be made.
func (o *Operators) allowed(address string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.tries == nil || len(o.tries) > maxCounted {
		o.tries = map[string]*rate.Limiter{}
	}
	if o.tries[address] == nil {
		o.tries[address] = rate.NewLimiter(rate.Every(time.Minute/triesPerMinute), triesPerMinute)
	}
	return o.tries[address].Allow()
}

var errTooMany = keep.Refuse(keep.TooManyAttempts, "too many attempts from this address: wait a minute")

// SignIn proves an operator by password and gives a cookie that stands for it.
func (o *Operators) SignIn(ctx context.Context, v Visitor, name string, password keep.Secret) (*keep.Operator, keep.Secret, error) {
	started := time.Now()
	r := v.record("", keep.OperatorSignIn)
	r.Operator = name[:min(len(name), maxName)]
	if !o.allowed(v.Address) {
		r.Outcome, r.Reason = keep.Refused, keep.TooManyAttempts
		o.Trail.Note(r)
		return nil, "", errTooMany
	}
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
		r.Outcome, r.Reason, r.Duration = keep.Refused, keep.BadCredentials, time.Since(started)
		o.Trail.Note(r)
		select {
		case <-time.After(o.Delay - time.Since(started)):
		case <-ctx.Done():
		}
		return nil, "", keep.Refuse(keep.BadCredentials, "the name or password is not right")
	}
	r.Outcome, r.Duration = keep.Done, time.Since(started)
	if err := o.Trail.Record(r); err != nil {
		return nil, "", err
	}
	cookie, err := o.prove(ctx, "cookie", operator.ID, "", CookieLife)
	return operator, cookie, err
}

// prove makes a secret and remembers its digest.
func (o *Operators) prove(ctx context.Context, kind string, operator int64, label string, life time.Duration) (keep.Secret, error) {
	secret, now := rand.Text(), time.Now()
	return keep.Secret(secret), o.DB.AddProof(ctx, records.Proof{Digest: digest(keep.Secret(secret)), Kind: kind, Operator: operator, Label: label,
		Created: now, Expires: now.Add(life)})
}

func digest(secret keep.Secret) []byte {
	sum := sha256.Sum256([]byte(secret.Reveal()))
	return sum[:]
}

// ByCookie finds the operator whose console session a cookie stands for.
func (o *Operators) ByCookie(ctx context.Context, cookie keep.Secret) (*keep.Operator, error) {
	return o.DB.ProvenOperator(ctx, "cookie", digest(cookie), time.Now())
}

// ByToken finds the operator whom an API token stands for.
func (o *Operators) ByToken(ctx context.Context, token keep.Secret) (*keep.Operator, error) {
	return o.DB.ProvenOperator(ctx, "token", digest(token), time.Now())
}

// MaxTokenLife bounds how long an API token can work.
const MaxTokenLife = 366 * 24 * time.Hour

// NewToken makes an API token that stands for an operator; by asks for it.
func (o *Operators) NewToken(ctx context.Context, v Visitor, by, name, label string, life time.Duration) (keep.Secret, error) {
	if life <= 0 || life > MaxTokenLife {
		return "", &keep.FieldError{Field: "days", Say: "use 1 to 366"}
	}
	operator, err := o.DB.Operator(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return "", keep.Refuse(keep.NotFound, "no such operator: operator list shows the ones there are")
	}
	if err != nil {
		return "", err
	}
	token, err := o.prove(ctx, "token", operator.ID, label, life)
	if err != nil {
		return "", err
	}
	r := v.record("", keep.TokenAdd)
	r.Operator, r.Target, r.Outcome, r.Detail = by, name, keep.Done, label
	return token, o.Trail.Record(r)
}

// SignOut ends the console session of a cookie.
func (o *Operators) SignOut(ctx context.Context, v Visitor, operator string, cookie keep.Secret) error {
	r := v.record("", keep.OperatorSignOut)
	r.Operator, r.Outcome = operator, keep.Done
	o.Trail.Note(r)
	return o.DB.DropProof(ctx, digest(cookie))
}

// NewSetup makes the secret of a set-up link, and ends every earlier one.
func (o *Operators) NewSetup(ctx context.Context) (keep.Secret, error) {
	if err := o.DB.DropProofs(ctx, "setup"); err != nil {
		return "", err
	}
	return o.prove(ctx, "setup", 0, "first operator", SetupLife)
}

// SetUp makes the first operator, an owner, and spends the set-up link.
func (o *Operators) SetUp(ctx context.Context, v Visitor, secret keep.Secret, name string, password keep.Secret) (*keep.Operator, error) {
	if !o.allowed(v.Address) {
		return nil, errTooMany
	}
	operator, err := o.newOperator(ctx, name, keep.Owner, password)
	if err != nil {
		return nil, err
	}
	err = o.DB.AddFirstOperator(ctx, digest(secret), operator, time.Now())
	if errors.Is(err, records.ErrNotFound) {
		return nil, keep.Refuse(keep.BadCredentials, "the set-up link is spent or too old: restart the service for a new one")
	}
	return operator, o.added(v, operator.Name, operator, err)
}

// Add makes an operator.
func (o *Operators) Add(ctx context.Context, v Visitor, by, name string, role keep.Role, password keep.Secret) (*keep.Operator, error) {
	operator, err := o.newOperator(ctx, name, role, password)
	if err != nil {
		return nil, err
	}
	return operator, o.added(v, by, operator, o.DB.AddOperator(ctx, operator))
}

func (o *Operators) newOperator(ctx context.Context, name string, role keep.Role, password keep.Secret) (*keep.Operator, error) {
	if err := keep.CheckName("operator", name); err != nil {
		return nil, err
	}
	if role != keep.Owner && role != keep.Manager && role != keep.Auditor {
		return nil, &keep.FieldError{Field: "role", Say: "use owner, manager or auditor"}
	}
	if err := CheckPassword(password, name); err != nil {
		return nil, err
	}
	hash, err := o.Hasher.Hash(ctx, password)
	return &keep.Operator{Name: name, Role: role, PasswordHash: hash, Created: time.Now().UTC()}, err
}

// added records a new operator; by is who made it.
func (o *Operators) added(v Visitor, by string, operator *keep.Operator, err error) error {
	if errors.Is(err, records.ErrTaken) {
		return &keep.FieldError{Field: "operator", Say: "the name is taken: choose another"}
	}
	if err != nil {
		return err
	}
	r := v.record("", keep.OperatorAdd)
	r.Operator, r.Target, r.Outcome, r.Detail = by, operator.Name, keep.Done, "role "+string(operator.Role)
	return o.Trail.Record(r)
}
