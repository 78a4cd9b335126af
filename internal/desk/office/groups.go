package office

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// Group finds a group.
func (o *Office) Group(ctx context.Context, name string) (*keep.Group, error) {
	g, err := o.DB.Group(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return nil, keep.NoSuch("group", name)
	}
	return g, err
}

// Members are the accounts in each group, by the group's name.
func (o *Office) Members(ctx context.Context) (map[string][]string, error) {
	accounts, err := o.DB.AllAccounts(ctx)
	members := map[string][]string{}
	for _, a := range accounts {
		for _, g := range a.Groups {
			members[g] = append(members[g], a.Name)
		}
	}
	return members, err
}

func groupFacts(g *keep.Group) *facts {
	settings := g.Settings
	return &facts{Note: g.Note, Settings: &settings, Mounts: g.Mounts, Grants: g.Grants}
}

func (o *Office) checkGroup(ctx context.Context, g *keep.Group) error {
	if err := g.Check(); err != nil {
		return err
	}
	return cmp.Or(o.checkStores(ctx, g.Mounts), o.checkFactor(ctx, g.Settings))
}

// AddGroup saves a new group.
func (o *Office) AddGroup(ctx context.Context, who Actor, g *keep.Group) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	if err := o.checkGroup(ctx, g); err != nil {
		return err
	}
	g.Created = time.Now().UTC()
	g.Changed = g.Created
	err := o.changed(ctx, who, keep.GroupAdd, groups, g.Name, nil, groupFacts(g), func(ctx context.Context) error { return o.DB.SaveGroup(ctx, g) })
	if errors.Is(err, records.ErrTaken) {
		return errNameTaken
	}
	return err
}

// SetGroup changes a group: edit changes a copy, which must leave every account in
// it whole, and is then put in force for all of them.
func (o *Office) SetGroup(ctx context.Context, who Actor, name string, edit func(*keep.Group) error) (*keep.Group, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.Group(ctx, name)
	if err != nil {
		return nil, err
	}
	g := *before
	if err := edit(&g); err != nil {
		return nil, err
	}
	if err := o.checkGroup(ctx, &g); err != nil {
		return nil, err
	}
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return nil, err
	}
	accounts = slices.DeleteFunc(accounts, func(a *keep.Account) bool { return !slices.Contains(a.Groups, g.Name) })
	if err := o.stayWhole(ctx, accounts, &g); err != nil {
		return nil, err
	}
	g.Changed = time.Now().UTC()
	if err := o.changed(ctx, who, keep.GroupSet, groups, g.Name, groupFacts(before), groupFacts(&g), func(ctx context.Context) error { return o.DB.SaveGroup(ctx, &g) }); err != nil {
		return nil, err
	}
	if err := o.Arrange(ctx); err != nil {
		return nil, err
	}
	for _, a := range accounts {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return nil, err
		}
		o.Live.Renew(e)
	}
	return &g, nil
}

// stayWhole refuses a change of a group that would leave one of its accounts, for
// example, without a home.
func (o *Office) stayWhole(ctx context.Context, accounts []*keep.Account, changed *keep.Group) error {
	for _, a := range accounts {
		in := make([]*keep.Group, len(a.Groups))
		for i, name := range a.Groups {
			if in[i] = changed; name != changed.Name {
				g, err := o.DB.Group(ctx, name)
				if err != nil {
					return err
				}
				in[i] = g
			}
		}
		var field *keep.FieldError
		if _, err := keep.Resolve(a, in); errors.As(err, &field) {
			return &keep.FieldError{Field: field.Field, Say: "that would break the account " + a.Name + ": " + field.Say}
		}
	}
	return nil
}

// DeleteGroup removes a group that no account is in.
func (o *Office) DeleteGroup(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	g, err := o.Group(ctx, name)
	if err != nil {
		return err
	}
	members, err := o.Members(ctx)
	if err != nil {
		return err
	}
	if in := members[g.Name]; len(in) > 0 {
		return keep.Refuse(keep.InUse, "the group "+g.Name+" is in use by "+listed(in, "account")+": take them out first (account set NAME -ungroup "+g.Name+")")
	}
	sources, err := o.DB.Sources(ctx)
	if err != nil {
		return err
	}
	for _, s := range sources {
		if slices.Contains(s.Groups, g.Name) || slices.ContainsFunc(s.Table, func(row keep.GroupRow) bool { return row.Ours == g.Name }) {
			return keep.Refuse(keep.InUse, "the source "+s.Name+" puts accounts into the group "+g.Name+": change that first (source set "+s.Name+" -table … -group …)")
		}
	}
	return o.changed(ctx, who, keep.GroupDelete, groups, g.Name, groupFacts(g), nil, func(ctx context.Context) error { return o.DB.DeleteGroup(ctx, g.ID) })
}

// listed names up to ten things: "the accounts ann, ben and 3 more".
func listed(names []string, what string) string {
	if len(names) == 1 {
		return "the " + what + " " + names[0]
	}
	const most = 10
	if len(names) <= most {
		return "the " + what + "s " + strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
	}
	return "the " + what + "s " + strings.Join(names[:most], ", ") + " and " + fmt.Sprintf("%d more", len(names)-most)
}
