package signin

import (
	"context"
	"encoding/hex"
	"errors"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// ByCookie finds the operator whose console sign-in a cookie stands for, and its ID. It belongs to the network that it was given to:
// [records.ErrNotFound] from elsewhere.
func (o *Operators) ByCookie(ctx context.Context, v Visitor, cookie keep.Secret) (*keep.Operator, string, error) {
	return o.by(ctx, "cookie", cookie, v.Address)
}

// ByToken finds the operator whom an API token stands for, with the role of the token.
func (o *Operators) ByToken(ctx context.Context, token keep.Secret) (*keep.Operator, string, error) {
	return o.by(ctx, "token", token, "")
}

func (o *Operators) by(ctx context.Context, kind string, secret keep.Secret, from string) (*keep.Operator, string, error) {
	operator, p, err := o.DB.Proven(ctx, kind, digest(secret), time.Now())
	if err == nil && from != "" && network(p.Address) != network(from) {
		return nil, "", records.ErrNotFound
	}
	if err == nil && p.Role != "" {
		operator.Role = operator.Role.Lesser(p.Role)
	}
	return operator, idOf(&p), err
}

// MaxTokenLife bounds how long an API token can work.
const MaxTokenLife = 366 * 24 * time.Hour

// NewToken makes an API token that stands for an operator, with its role or a lesser
// one, which it gives too; by asks for it.
func (o *Operators) NewToken(ctx context.Context, v Visitor, by, name, label string, role keep.Role, life time.Duration) (token keep.Secret, as keep.Role, err error) {
	if life <= 0 || life > MaxTokenLife {
		return "", "", &keep.FieldError{Field: "days", Say: "use 1 to 366"}
	}
	operator, err := o.find(ctx, name)
	if err != nil {
		return "", "", err
	}
	if role == "" {
		role = operator.Role
	}
	if err := role.Check(); err != nil {
		return "", "", err
	}
	if operator.Role.Lesser(role) != role {
		return "", "", &keep.FieldError{Field: "role", Say: "a token can't do more than its operator, who is " + string(operator.Role)}
	}
	r := v.record("", keep.TokenAdd)
	r.Operator, r.Target, r.Outcome, r.Detail = by, operator.Name, keep.Done, label+" as "+string(role)
	err = o.Trail.Change(ctx, r, func(ctx context.Context) (err error) {
		token, err = o.prove(ctx, records.Proof{Kind: "token", Operator: operator.ID, Label: label, Role: role, Address: v.Address}, life)
		return err
	})
	return token, role, err
}

// Access is one way in that an operator has open: a console sign-in or an API token.
type Access struct {
	ID       string // the first bytes of the digest of its secret
	Kind     string // "cookie" or "token"
	Operator string
	Label    string
	Role     keep.Role
	Address  string
	Created  time.Time
	Expires  time.Time
	LastUsed time.Time
}

func idOf(p *records.Proof) string { return hex.EncodeToString(p.Digest[:min(8, len(p.Digest))]) }

// Accesses are the open ways in, of one operator or of all ("").
func (o *Operators) Accesses(ctx context.Context, of string) ([]Access, error) {
	found, _, err := o.accesses(ctx, of)
	return found, err
}

func (o *Operators) accesses(ctx context.Context, of string) (found []Access, digests [][]byte, err error) {
	operators, err := o.DB.Operators(ctx)
	if err != nil {
		return nil, nil, err
	}
	known := map[int64]*keep.Operator{}
	for _, one := range operators {
		known[one.ID] = one
	}
	proofs, err := o.DB.Proofs(ctx, time.Now(), "cookie", "token")
	for _, p := range proofs {
		operator := known[p.Operator]
		if operator == nil || of != "" && operator.Name != of {
			continue
		}
		role := operator.Role
		if p.Role != "" {
			role = role.Lesser(p.Role)
		}
		found = append(found, Access{idOf(&p), p.Kind, operator.Name, p.Label, role, p.Address, p.Created, p.Expires, p.LastUsed})
		digests = append(digests, p.Digest)
	}
	return found, digests, err
}

// EndAccess ends one way in; of narrows it to those of one operator.
func (o *Operators) EndAccess(ctx context.Context, v Visitor, by, of, id string) error {
	found, digests, err := o.accesses(ctx, of)
	if err != nil {
		return err
	}
	for i, a := range found {
		if a.ID != id {
			continue
		}
		r := v.record("", keep.AccessEnd)
		r.Operator, r.Target, r.Outcome, r.Detail = by, a.Operator, keep.Done, a.Kind+" "+a.Label
		return o.Trail.Change(ctx, r, func(ctx context.Context) error {
			if err := o.DB.DropProof(ctx, digests[i]); !errors.Is(err, records.ErrNotFound) {
				return err
			}
			return nil
		})
	}
	return keep.Refuse(keep.NotFound, "no such sign-in or token: access list shows the ones there are")
}

// SignOut ends the console session of a cookie.
func (o *Operators) SignOut(ctx context.Context, v Visitor, operator string, cookie keep.Secret) error {
	r := v.record("", keep.OperatorSignOut)
	r.Operator, r.Outcome = operator, keep.Done
	o.Trail.Note(r)
	return o.DB.DropProof(ctx, digest(cookie))
}
