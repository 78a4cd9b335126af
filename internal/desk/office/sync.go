package office

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

// stepPlan is what is to be done so that accounts are as their source says.
type stepPlan struct {
	source               keep.Source
	add, save            []*keep.Account
	before               []*facts // of save
	actions              []keep.Action
	left, back           []int64
	lines                []api.SyncLine
	come, leaving, other int
}

// SyncSource finds out who comes, changes and leaves, and with apply does it: all of that or nothing. More leavers than
// most stop it; 0 is as many as the source's settings let.
func (o *Office) SyncSource(ctx context.Context, who Actor, name string, apply bool, most int) (api.SourceSync, error) {
	s, err := o.Source(ctx, name)
	if err != nil {
		return api.SourceSync{}, err
	}
	running := o.Book.Source(s.Name)
	if running == nil {
		return api.SourceSync{}, &keep.FieldError{Field: "name", Say: "the source " + s.Name + " is off"}
	}
	people, err := running.List(ctx)
	if errors.Is(err, errors.ErrUnsupported) {
		return api.SourceSync{}, &keep.FieldError{Field: "name", Say: "a source of kind " + string(s.Kind) + " does not say whom it knows"}
	}
	if err != nil {
		return api.SourceSync{}, &keep.Fault{Reason: keep.SourceAway, Say: s.Name + " could not be read whole, so nothing is changed: " + err.Error(), Cause: err}
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	plan, err := o.planSync(ctx, s, people)
	if err != nil {
		return api.SourceSync{}, err
	}
	answer := api.SourceSync{People: len(people), Come: plan.come, Change: plan.other, Leave: plan.leaving, Lines: list(plan.lines)}
	if most == 0 {
		most = int(s.Leavers)
	}
	if plan.leaving > most {
		answer.Stopped = fmt.Sprintf("%d accounts would be suspended, which is more than %d: look whether the source is whole, then source sync %s -go -leavers %d", plan.leaving, most, s.Name, plan.leaving)
	}
	if !apply || answer.Stopped != "" || len(plan.add)+len(plan.save) == 0 {
		return answer, nil
	}
	if who.Operator == "" {
		who.Operator = "source " + s.Name
	}
	if err := o.applySync(ctx, who, plan); err != nil {
		return api.SourceSync{}, err
	}
	answer.Done = true
	return answer, nil
}

func list[T any](items []T) []T {
	if items == nil {
		return []T{}
	}
	return items
}

func (o *Office) planSync(ctx context.Context, s keep.Source, people []source.Listed) (*stepPlan, error) {
	all, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return nil, err
	}
	leavers, err := o.DB.Leavers(ctx)
	if err != nil {
		return nil, err
	}
	known := map[string]*keep.Account{}
	for _, a := range all {
		known[strings.ToLower(a.Name)] = a
	}
	plan := &stepPlan{source: s}
	sound := map[string]error{} // of accounts with these groups
	seen := map[string]bool{}
	for i := range people {
		p := &people[i]
		name := p.Name + s.Suffix
		if seen[strings.ToLower(name)] {
			continue
		}
		if a := known[strings.ToLower(name)]; a != nil {
			seen[strings.ToLower(name)] = a.Source == s.Name
			o.planKnown(plan, a, &p.Person, leavers[a.ID])
			continue
		}
		groups := s.GroupsFor(p.Groups)
		if p.Closed != "" || !s.Makes || len(groups) == 0 {
			continue
		}
		seen[strings.ToLower(name)] = true
		a := &keep.Account{Name: name, State: keep.StateActive, Source: s.Name, SourceID: p.ID, Groups: slices.Clone(groups), Created: time.Now().UTC()}
		if mail, err := keep.CheckMail("mail", p.Mail); err == nil {
			a.Mail = mail
		}
		a.Changed = a.Created
		err, checked := sound[strings.Join(groups, ",")]
		if !checked {
			_, err = o.check(ctx, a)
			sound[strings.Join(groups, ",")] = err
		}
		if err == nil {
			err = a.Check()
		}
		if err == nil && a.Anonymous() {
			err = errors.New("everybody may use the account anonymous: nobody vouches for it")
		}
		if err != nil {
			plan.say(name, "nothing", err.Error())
			continue
		}
		plan.add = append(plan.add, a)
		plan.come++
		plan.say(name, "add", strings.Join(groups, ", "))
	}
	for _, a := range all {
		if a.Source == s.Name && !seen[strings.ToLower(a.Name)] && a.State == keep.StateActive {
			plan.leave(a, s.Name+" knows nobody of that name any more")
		}
	}
	return plan, nil
}

// planKnown plans what becomes of an account whose name the source knows.
func (o *Office) planKnown(plan *stepPlan, a *keep.Account, p *source.Person, left bool) {
	s := &plan.source
	switch {
	case a.Source != s.Name:
		plan.say(a.Name, "nothing", "the account comes from "+a.From())
		return
	case a.SourceID != "" && a.SourceID != p.ID:
		if a.State == keep.StateActive {
			plan.leave(a, s.Name+" has somebody else of that name now")
		}
		return
	case p.Closed != "":
		if a.State == keep.StateActive {
			plan.leave(a, s.Name+" says: "+p.Closed)
		}
		return
	}
	changed := *a
	var says []string
	action := keep.AccountSet
	if a.State == keep.StateSuspended && left {
		changed.State, action = keep.StateActive, keep.AccountResume
		plan.back = append(plan.back, a.ID)
		says = append(says, "is back")
	}
	if mail, err := keep.CheckMail("mail", p.Mail); err == nil && mail != a.Mail {
		changed.Mail = mail
		says = append(says, "mail "+mail)
	}
	if groups := s.GroupsFor(p.Groups); len(s.Table) > 0 && !slices.Equal(groups, a.Groups) {
		changed.Groups = slices.Clone(groups)
		says = append(says, "groups "+strings.Join(groups, ", "))
	}
	if changed.SourceID = p.ID; a.SourceID == "" {
		says = append(says, "known to "+s.Name)
	}
	if says == nil {
		return
	}
	plan.other++
	plan.change(a, &changed, action)
	plan.say(a.Name, map[bool]string{true: "resume", false: "change"}[action == keep.AccountResume], strings.Join(says, "; "))
}

func (p *stepPlan) leave(a *keep.Account, why string) {
	changed := *a
	changed.State = keep.StateSuspended
	p.leaving++
	p.left = append(p.left, a.ID)
	p.change(a, &changed, keep.AccountSuspend)
	p.say(a.Name, "suspend", why)
}

func (p *stepPlan) change(before, after *keep.Account, action keep.Action) {
	after.Changed = time.Now().UTC()
	p.save, p.before, p.actions = append(p.save, after), append(p.before, factsOf(before)), append(p.actions, action)
}

// maxSyncLines bounds what is said account by account.
const maxSyncLines = 1000

func (p *stepPlan) say(account, does, why string) {
	if len(p.lines) < maxSyncLines {
		p.lines = append(p.lines, api.SyncLine{Account: account, Does: does, Say: why})
	}
}

func (o *Office) applySync(ctx context.Context, who Actor, plan *stepPlan) error {
	for _, a := range plan.save { // groups that a table gives may take a home away
		if a.State == keep.StateActive {
			if _, err := o.check(ctx, a); err != nil {
				return fmt.Errorf("the account %s can't be as %s says: %w", a.Name, plan.source.Name, err)
			}
		}
	}
	whole := recordOf(who, keep.SourceSync, plan.source.Name, fmt.Sprintf("%d came, %d changed, %d suspended", plan.come, plan.other, plan.leaving))
	err := o.Trail.Change(ctx, whole, func(ctx context.Context) error {
		if err := o.DB.WriteAccounts(ctx, plan.add, plan.save); err != nil {
			return err
		}
		if err := o.DB.NoteLeavers(ctx, plan.left, plan.back); err != nil {
			return err
		}
		if err := o.eachChanged(ctx, who, plan.add, nil, nil); err != nil {
			return err
		}
		for i, a := range plan.save {
			if err := o.noteChange(ctx, who, plan.actions[i], accounts, a.Name, plan.before[i], factsOf(a)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return o.renew(ctx, slices.Concat(plan.add, plan.save))
}
