package office

import (
	"context"
	"maps"
	"slices"
	"sync"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
)

// places remembers where the mounts of all accounts lie, so that a change of one of them needs no look at the others.
type places struct {
	mu sync.Mutex
	of map[string][]keep.Place              // by account; without a quota where a mount has none
	at map[quota.Spot]map[string]keep.Quota // by folder: the accounts that use it, and what each may put there
	in map[string]map[string]bool           // by store: the accounts with a mount of their own in it
}

// put sets what an account has, nothing for an account that is gone, and gives the folders that it concerns.
func (p *places) put(account string, now []keep.Place, own []keep.Mount) []quota.Spot {
	if p.of == nil {
		p.of, p.at, p.in = map[string][]keep.Place{}, map[quota.Spot]map[string]keep.Quota{}, map[string]map[string]bool{}
	}
	for _, users := range p.in {
		delete(users, account)
	}
	for _, m := range own {
		if p.in[m.Store] == nil {
			p.in[m.Store] = map[string]bool{}
		}
		p.in[m.Store][account] = true
	}
	before := p.of[account]
	if slices.Equal(before, now) {
		return nil
	}
	for _, one := range before {
		spot := spotOf(one)
		if delete(p.at[spot], account); len(p.at[spot]) == 0 {
			delete(p.at, spot)
		}
	}
	for _, one := range now {
		spot := spotOf(one)
		if p.at[spot] == nil {
			p.at[spot] = map[string]keep.Quota{}
		}
		p.at[spot][account] = quota.Tighter(p.at[spot][account], one.Quota)
	}
	p.of[account] = now
	if now == nil {
		delete(p.of, account)
	}
	var spots []quota.Spot
	for _, one := range append(slices.Clone(before), now...) {
		spots = append(spots, spotOf(one))
	}
	return spots
}

func spotOf(one keep.Place) quota.Spot { return quota.Spot{Store: one.Store, Path: one.Folder} }

// limits are what may lie in folders by what all accounts say of them.
func (p *places) limits(spots []quota.Spot) map[quota.Spot]keep.Quota {
	found := map[quota.Spot]keep.Quota{}
	for _, spot := range spots {
		var limit keep.Quota
		for _, one := range p.at[spot] {
			limit = quota.Tighter(limit, one)
		}
		found[spot] = limit
	}
	return found
}

// users names the accounts with a mount at a folder, by name.
func (p *places) users(spot quota.Spot) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Sorted(maps.Keys(p.at[spot]))
}

// owners names the accounts with a mount of their own in a store, by name.
func (p *places) owners(store string) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Sorted(maps.Keys(p.in[store]))
}

// Arrange tells the ledger which folders have quotas now.
func (o *Office) Arrange(ctx context.Context) error {
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	o.places.mu.Lock()
	defer o.places.mu.Unlock()
	o.places.of = nil
	for _, a := range accounts {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return err
		}
		o.places.put(e.Name, e.Places(), e.Account.Mounts)
	}
	return o.Ledger.Arrange(ctx, o.places.limits(slices.Collect(maps.Keys(o.places.at))))
}

// rearrange is Arrange after a change of some accounts.
func (o *Office) rearrange(ctx context.Context, changed ...*keep.Effective) error {
	o.places.mu.Lock()
	defer o.places.mu.Unlock()
	var spots []quota.Spot
	for _, e := range changed {
		spots = append(spots, o.places.put(e.Name, e.Places(), e.Account.Mounts)...)
	}
	return o.Ledger.Rearrange(ctx, o.places.limits(spots))
}

// vacate is Arrange after an account went.
func (o *Office) vacate(ctx context.Context, account string) error {
	o.places.mu.Lock()
	defer o.places.mu.Unlock()
	return o.Ledger.Rearrange(ctx, o.places.limits(o.places.put(account, nil, nil)))
}
