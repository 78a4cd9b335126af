package office

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/records"
)

// AddPass makes a pass of an account, for an operator or for the account's own holder; the secret of its link is given
// this once.
func (o *Office) AddPass(ctx context.Context, who Actor, account string, p keep.Pass, password keep.Secret, life time.Duration) (keep.Pass, keep.Secret, error) {
	e, err := o.Account(ctx, account)
	if err != nil {
		return p, "", err
	}
	now := time.Now()
	p.ID, p.Account, p.Operator, p.Created, p.Expires = rand.Text()[:12], e.ID, who.Operator, now, now.Add(life)
	if err := p.Check(); err != nil {
		return p, "", err
	}
	if who.Account != "" {
		if most := e.PassTime.Duration(); most > 0 && life > most {
			return p, "", &keep.FieldError{Field: "days", Say: fmt.Sprintf("your passes may live %d days at the most", max(1, int(most.Hours()/24)))}
		}
		if !e.Passes.Has(p.Kind) {
			return p, "", keep.Refuse(keep.NoRight, "you may make no such passes: an administrator can allow it")
		}
	}
	policy := keep.NewPolicy(e.Over(keep.ByPass))
	for _, at := range p.Paths {
		if why := p.For(policy, at, false, now); why != nil && (p.Kind == keep.DropPass || p.For(policy, at, true, now) != nil) {
			return p, "", &keep.FieldError{Field: "paths", Say: "a pass can give no more than the account may do: " + why.Error()}
		}
	}
	if _, err := o.there(ctx, e, policy, p.Paths); err != nil {
		return p, "", err
	}
	n, err := o.DB.CountPasses(ctx, e.ID, now)
	if err != nil {
		return p, "", err
	}
	if n >= keep.MaxPasses {
		return p, "", &keep.FieldError{Field: "paths", Say: fmt.Sprintf("the account has %d open passes, as many as it may: end some first", n)}
	}
	if password != "" {
		if err := passwords.Check(password, e.Name); err != nil {
			return p, "", err
		}
		if p.Password, err = o.Hasher.Hash(ctx, password); err != nil {
			return p, "", err
		}
	}
	secret, digest := signin.NewPassSecret()
	p.Digest = digest
	return p, secret, o.recorded(ctx, who, keep.PassAdd, p.ID, describe(e.Name, p), func(ctx context.Context) error { return o.DB.AddPass(ctx, p) })
}

// there says which of some paths are folders, and refuses those at which nothing is. What lies behind a link, or in a
// store that is away, is not looked for, and counts as a folder.
func (o *Office) there(ctx context.Context, e *keep.Effective, policy *keep.Policy, paths []string) (folders map[string]bool, err error) {
	stores, err := o.DB.Stores(ctx)
	if err != nil {
		return nil, err
	}
	folders = map[string]bool{}
	for _, at := range paths {
		folders[at] = true
		m := policy.MountOf(at)
		if m == nil || at == m.At {
			continue
		}
		i := slices.IndexFunc(stores, func(s keep.Store) bool { return s.Name == m.Store })
		if i < 0 {
			continue
		}
		below := strings.TrimPrefix(strings.TrimPrefix(at, m.At), "/")
		folder, err := o.Stores.Look(stores[i], path.Join(m.FolderFor(e.Name), path.Dir(below)))
		if err == nil {
			var info fs.FileInfo
			if info, err = folder.Lookup(keep.Unspell(path.Base(below))); err == nil {
				folders[at] = info.IsDir()
			}
			folder.Close()
		}
		if errors.Is(err, fs.ErrNotExist) {
			return folders, &keep.FieldError{Field: "paths", Say: "there is no " + at + " in the account's tree"}
		}
	}
	return folders, nil
}

// describe says in the trail what a pass gives.
func describe(account string, p keep.Pass) string {
	said := []string{"for " + account, string(p.Kind) + " " + strings.Join(p.Paths, " "), "until " + moment(p.Expires)}
	if p.Password != "" {
		said = append(said, "with a password")
	}
	if p.MaxUses > 0 {
		said = append(said, fmt.Sprintf("%d uses", p.MaxUses))
	}
	if p.MaxBytes > 0 {
		said = append(said, keep.SaySize(int64(p.MaxBytes)))
	}
	if len(p.Networks) > 0 {
		said = append(said, "from "+p.Networks.String())
	}
	if p.Note != "" {
		said = append(said, p.Note)
	}
	return strings.Join(said, "; ")
}

// NamedPass finds a pass that somebody may see: an operator all, a holder their own.
func (o *Office) NamedPass(ctx context.Context, who Actor, id string) (records.NamedPass, error) {
	p, err := o.DB.Pass(ctx, id)
	if errors.Is(err, records.ErrNotFound) || err == nil && who.Account != "" && who.Account != p.Name {
		return records.NamedPass{}, keep.NoSuch("pass", id)
	}
	return p, err
}

// PassOf finds a pass of an account.
func (o *Office) PassOf(ctx context.Context, account, id string) (keep.Pass, error) {
	p, err := o.NamedPass(ctx, Actor{}, id)
	if err == nil && p.Name != account {
		err = keep.NoSuch("pass", id)
	}
	return p.Pass, err
}

// EndPass ends a pass, and what is done with it. One that has ended already is left as it is.
func (o *Office) EndPass(ctx context.Context, who Actor, id string) error {
	p, err := o.NamedPass(ctx, who, id)
	if err != nil {
		return err
	}
	by := who.Operator
	if who.Account != "" {
		by = who.Account
	}
	r := recordOf(who, keep.PassEnd, p.ID, "")
	r.Holder = p.Name
	err = o.Trail.Change(ctx, r, func(ctx context.Context) error { return o.DB.EndPass(ctx, p.ID, by, time.Now()) })
	if errors.Is(err, records.ErrNotFound) {
		signin.NothingChanged(ctx)
		return nil
	}
	if err == nil {
		o.Live.EndKey(p.Name, p.ID, keep.Refuse(keep.EndedByOperator, "this link was ended"))
	}
	return err
}

// EndPasses ends all open passes of an account; it says how many.
func (o *Office) EndPasses(ctx context.Context, who Actor, account string) (int, error) {
	e, err := o.Account(ctx, account)
	if err != nil {
		return 0, err
	}
	open, err := o.DB.Passes(ctx, records.PassQuery{Account: e.Name}, time.Now())
	for n, p := range open {
		if err == nil {
			err = o.EndPass(ctx, who, p.ID)
		}
		if err != nil {
			return n, err
		}
	}
	return len(open), err
}
