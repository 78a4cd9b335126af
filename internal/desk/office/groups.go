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
	accounts, err := o.DB.Accounts(ctx, records.AccountQuery{Group: g.Name}, "", -1)
	if err != nil {
		return nil, err
	}
	if err := o.stayWhole(ctx, accounts, &g); err != nil {
		return nil, err
	}
	g.Changed = time.Now().UTC()
	if err := o.changed(ctx, who, keep.GroupSet, groups, g.Name, groupFacts(before), groupFacts(&g), func(ctx context.Context) error { return o.DB.SaveGroup(ctx, &g) }); err != nil {
		return nil, err
	}
	return &g, o.renew(ctx, accounts)
}

// renew puts in force what is new for accounts.
func (o *Office) renew(ctx context.Context, changed []*keep.Account) error {
	now := make([]*keep.Effective, len(changed))
	for i, a := range changed {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return err
		}
		now[i] = e
	}
	err := o.rearrange(ctx, now...)
	for _, e := range now {
		o.Live.Renew(e)
	}
	return err
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
	in, all, err := o.DB.Members(ctx, g.Name, mostListed)
	if err != nil {
		return err
	}
	if all > 0 {
		return keep.Refuse(keep.InUse, "the group "+g.Name+" is in use by "+listedOf(in, all, "account")+": take them out first (account set NAME -ungroup "+g.Name+")")
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

// mostListed is how many names a sentence has room for.
const mostListed = 10

// listed names up to ten things: "the accounts ann, ben and 3 more".
func listed(names []string, what string) string { return listedOf(names, len(names), what) }

// listedOf is listed where only the first of all the names are at hand.
func listedOf(names []string, all int, what string) string {
	one, many := "the "+what+" ", "the "+what+"s "
	if what == "" { // they say themselves what they are
		one, many = "", ""
	}
	if all == 1 {
		return one + names[0]
	}
	if all <= mostListed {
		return many + strings.Join(names[:all-1], ", ") + " and " + names[all-1]
	}
	return many + strings.Join(names[:mostListed], ", ") + " and " + fmt.Sprintf("%d more", all-mostListed)
}
