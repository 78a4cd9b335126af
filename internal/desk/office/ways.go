package office

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// way is how the things of a kind are read, put back as they were, and removed.
type way struct {
	now    func(ctx context.Context, name string) (any, error) // nil: it is not there
	put    func(ctx context.Context, who Actor, name string, text []byte) error
	remove func(ctx context.Context, who Actor, name string) error // nil: there is always one
}

func (o *Office) wayOf(what string) way {
	return map[string]way{
		accounts: {o.accountNow, o.putAccount, o.DeleteAccount},
		groups:   {o.groupNow, o.putGroup, o.DeleteGroup},
		listeners: {o.listenerNow, o.putListener, func(ctx context.Context, who Actor, name string) error {
			return o.RemoveListener(ctx, who, name, false)
		}},
		stores:     {o.storeNow, putter(o.putStore), o.RemoveStore},
		grounds:    {alone(func(ctx context.Context) (groundsFacts, error) { g, err := o.Grounds(ctx); return groundsFacts{g}, err }), putter(func(ctx context.Context, who Actor, g groundsFacts) error { return o.SetGrounds(ctx, who, g.Folders) }), nil},
		gate:       {alone(o.Gate), putter(func(ctx context.Context, who Actor, r keep.Rules) error { return o.SetGate(ctx, who, r, false) }), nil},
		retention:  {alone(o.Retention), putter(o.SetRetention), nil},
		collectors: {alone(func(ctx context.Context) (keep.Collector, error) { return o.Collector.State(ctx).Collector, nil }), putter(o.SetCollector), nil},
		durability: {alone(func(ctx context.Context) (durabilityFacts, error) {
			d, err := o.Durability(ctx)
			return durabilityFacts{d}, err
		}), putter(func(ctx context.Context, who Actor, d durabilityFacts) error {
			return o.SetDurability(ctx, who, d.Durability)
		}), nil},
		limits: {alone(o.Limits), putter(func(ctx context.Context, who Actor, l keep.Limits) error {
			_, err := o.SetLimits(ctx, who, func(now *keep.Limits) error { *now = l; return nil })
			return err
		}), nil},
		identity: {alone(o.Identity), putter(o.SetIdentity), nil},
		routesOf: {alone(func(ctx context.Context) (routesFacts, error) { r, err := o.Routes(ctx); return routesFacts{r}, err }), putter(func(ctx context.Context, who Actor, f routesFacts) error {
			_, err := o.SetRoutes(ctx, who, func([]keep.Route) ([]keep.Route, error) { return f.Routes, nil })
			return err
		}), nil},
	}[what]
}

// alone is for what there is one of.
func alone[T any](read func(context.Context) (T, error)) func(context.Context, string) (any, error) {
	return func(ctx context.Context, _ string) (any, error) { return read(ctx) }
}

func putter[T any](put func(context.Context, Actor, T) error) func(context.Context, Actor, string, []byte) error {
	return func(ctx context.Context, who Actor, _ string, text []byte) error {
		var value T
		if err := json.Unmarshal(text, &value); err != nil {
			return err
		}
		return put(ctx, who, value)
	}
}

func (o *Office) accountNow(ctx context.Context, name string) (any, error) {
	a, err := o.DB.Account(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return factsOf(a), nil
}

func (f *facts) into(a *keep.Account) {
	a.Note, a.Mail, a.State, a.MustChange, a.Groups, a.Mounts, a.Grants = f.Note, f.Mail, f.State, f.MustChange, f.Groups, f.Mounts, f.Grants
	a.Source, a.SourceID = f.Source, f.SourceID
	a.Settings = keep.Settings{}
	if f.Settings != nil {
		a.Settings = *f.Settings
	}
}

// putAccount gives an account back what it was; one that was deleted comes back without
// password and keys, for those are gone.
func (o *Office) putAccount(ctx context.Context, who Actor, name string, text []byte) error {
	var f facts
	if err := json.Unmarshal(text, &f); err != nil {
		return err
	}
	if _, err := o.DB.Account(ctx, name); errors.Is(err, records.ErrNotFound) {
		a := &keep.Account{Name: name}
		f.into(a)
		a.MustChange = false
		_, err := o.AddAccount(ctx, who, a, "", "")
		return err
	}
	_, err := o.SetAccount(ctx, who, name, "", func(a *keep.Account) error {
		f.into(a)
		return nil
	})
	return err
}

func (o *Office) groupNow(ctx context.Context, name string) (any, error) {
	g, err := o.DB.Group(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return groupFacts(g), nil
}

func (o *Office) putGroup(ctx context.Context, who Actor, name string, text []byte) error {
	var f facts
	if err := json.Unmarshal(text, &f); err != nil {
		return err
	}
	edit := func(g *keep.Group) error {
		g.Note, g.Mounts, g.Grants, g.Settings = f.Note, f.Mounts, f.Grants, keep.Settings{}
		if f.Settings != nil {
			g.Settings = *f.Settings
		}
		return nil
	}
	if _, err := o.DB.Group(ctx, name); errors.Is(err, records.ErrNotFound) {
		g := &keep.Group{Name: name}
		return errors.Join(edit(g), o.AddGroup(ctx, who, g))
	}
	_, err := o.SetGroup(ctx, who, name, edit)
	return err
}

func (o *Office) listenerNow(ctx context.Context, name string) (any, error) {
	found, err := o.DB.Listeners(ctx)
	if at := slices.IndexFunc(found, func(l keep.Listener) bool { return l.Name == name }); at >= 0 {
		return found[at], nil
	}
	return nil, err
}

func (o *Office) putListener(ctx context.Context, who Actor, name string, text []byte) error {
	var was keep.Listener
	if err := json.Unmarshal(text, &was); err != nil {
		return err
	}
	if now, err := o.listenerNow(ctx, name); err != nil || now == nil {
		if err == nil {
			_, err = o.AddListener(ctx, who, was, false)
		}
		return err
	}
	_, err := o.SetListener(ctx, who, name, func(l *keep.Listener) { *l = was }, false)
	return err
}

func (o *Office) storeNow(ctx context.Context, name string) (any, error) {
	found, err := o.DB.Stores(ctx)
	if at := slices.IndexFunc(found, func(s keep.Store) bool { return s.Name == name }); at >= 0 {
		return found[at], nil
	}
	return nil, err
}
