package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/dav"
	"urbankeep/internal/records"
)

func (d davDoor) Arrive(address string, encrypted bool, cut func(*keep.Fault)) dav.Visit {
	return davVisit{d.arriveFrom(address, keep.WebDAV, encrypted, cut)}
}

// davVisit is a visit as WebDAV declares it.
type davVisit struct{ *visit }

// SignIn signs in by the account's password, or by one of its tokens in the place of that.
func (v davVisit) SignIn(ctx context.Context, account string, secret keep.Secret) (*tree.Tree, time.Time, error) {
	if _, of, err := v.door.accounts.TokenOf(ctx, secret); err == nil && strings.EqualFold(of, keep.SignInName(account)) {
		return portalVisit(v).ByToken(ctx, secret)
	}
	opened, err := v.visit.SignIn(ctx, account, secret)
	return opened, time.Time{}, err
}

func (v davVisit) DeepListing() int { return int(v.door.accounts.Guard.Limits().DeepListing) }

func (v davVisit) LocksOver(ctx context.Context, at dav.Spot) ([]keep.Lock, error) {
	return v.door.db.LocksOver(ctx, at.Store, at.Path, time.Now())
}

func (v davVisit) LocksBelow(ctx context.Context, at dav.Spot) ([]keep.Lock, error) {
	return v.door.db.LocksBelow(ctx, at.Store, at.Path, time.Now())
}

// AddLock decides and writes with nobody in between.
func (v davVisit) AddLock(ctx context.Context, l keep.Lock, clash func(over, below []keep.Lock) error) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	l.Account = a.Name
	v.door.locking.Lock()
	defer v.door.locking.Unlock()
	at := dav.Spot{Store: l.Store, Path: l.Path}
	over, err := v.LocksOver(ctx, at)
	if err != nil {
		return err
	}
	below, err := v.LocksBelow(ctx, at)
	if err != nil {
		return err
	}
	if err := clash(over, below); err != nil {
		return err
	}
	mine, err := v.door.db.Locks(ctx, a.Name, time.Now())
	if err != nil {
		return err
	}
	if len(mine) >= keep.MaxLocks {
		return keep.Refuse(keep.TooManySessions, fmt.Sprintf("the account has as many locks as it may, %d: unlock some first", keep.MaxLocks))
	}
	return v.door.db.AddLock(ctx, l)
}

func (v davVisit) RefreshLock(ctx context.Context, token string, expires time.Time) error {
	return lockGone(v.door.db.RefreshLock(ctx, token, expires))
}

func (v davVisit) DropLock(ctx context.Context, token string) error {
	return lockGone(v.door.db.DropLock(ctx, token))
}

func lockGone(err error) error {
	if errors.Is(err, records.ErrNotFound) {
		return keep.Refuse(keep.NotFound, "the lock is not there any more")
	}
	return err
}

func (v davVisit) DeadProperties(ctx context.Context, at dav.Spot, inside bool) (map[string][]keep.Property, error) {
	return v.door.db.Properties(ctx, at.Store, at.Path, inside)
}

// SetProperties keeps no more than may be kept.
func (v davVisit) SetProperties(ctx context.Context, at dav.Spot, set, remove []keep.Property) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	if len(set) > 0 {
		has, err := v.door.db.Properties(ctx, at.Store, at.Path, false)
		if err != nil {
			return err
		}
		bytes, n := 0, 0
		for _, p := range append(has[at.Path], set...) {
			bytes, n = bytes+len(p.Value), n+1
		}
		of, err := v.door.db.CountProperties(ctx, a.ID)
		if err != nil {
			return err
		}
		if n > keep.MaxProperties || bytes > keep.MaxPropertyBytes || of+len(set) > keep.MaxAccountProperties {
			return keep.Refuse(keep.QuotaFull, "there is no room for more properties")
		}
	}
	return v.door.db.SetProperties(ctx, a.ID, at.Store, at.Path, set, remove)
}

func (v davVisit) Copied(ctx context.Context, from, to dav.Spot) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	return v.door.db.CopyProperties(ctx, a.ID, from, to)
}

// BinOf is where what gives way is noted; nil: it goes for good.
func (v davVisit) BinOf(t *tree.Tree) tree.Bin {
	if t.BinTime() == 0 {
		return nil
	}
	return noting{v.visit}
}
