package office

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/records"
)

// The kinds of things whose changes can be taken back.
const (
	accounts   = "account"
	groups     = "group"
	listeners  = "listener"
	stores     = "store"
	grounds    = "store-grounds"
	gate       = "gate"
	retention  = "retention"
	collectors = "collector"
	durability = "durability"
	limits     = "limits"
	identity   = "service"
	routesOf   = "routes"
)

// Kinds are the kinds of things that the history has changes of.
var Kinds = []string{accounts, groups, listeners, stores, grounds, gate, retention, collectors, durability, limits, identity, routesOf}

// ownersKinds are those that only owners change.
var ownersKinds = []string{grounds, collectors, routesOf}

// changed saves a change, keeps it in the history, and records it: all of that or nothing.
// Before and after are what they are in JSON; nil is nothing. When they are the same, nothing is done.
func (o *Office) changed(ctx context.Context, who Actor, action keep.Action, what, name string, before, after any, save func(context.Context) error) error {
	c, r, err := o.describe(who, action, what, name, before, after)
	if err != nil {
		return err
	}
	if c.Before != "" && c.Before == c.After && who.undoes == 0 {
		signin.NothingChanged(ctx)
		return nil
	}
	return o.Trail.Change(ctx, r, func(ctx context.Context) error {
		if err := save(ctx); err != nil {
			return err
		}
		_, err := o.DB.AddChange(ctx, c)
		return err
	})
}

// noteChange keeps a change in the history, and has it recorded, with the change that it is a part of.
func (o *Office) noteChange(ctx context.Context, who Actor, action keep.Action, what, name string, before, after any) error {
	c, r, err := o.describe(who, action, what, name, before, after)
	if err != nil {
		return err
	}
	if _, err := o.DB.AddChange(ctx, c); err != nil {
		return err
	}
	_, err = o.DB.AddDue(ctx, r)
	return err
}

// describe is a change as the history and the trail have it.
func (o *Office) describe(who Actor, action keep.Action, what, name string, before, after any) (records.Change, keep.AuditRecord, error) {
	c := records.Change{At: time.Now().UTC(), Operator: who.Operator, Address: who.Address, Action: action, What: what, Name: name, Undoes: who.undoes}
	for value, into := range map[*any]*string{&before: &c.Before, &after: &c.After} {
		if *value == nil {
			continue
		}
		text, err := json.Marshal(*value)
		if err != nil {
			return c, keep.AuditRecord{}, err
		}
		*into = string(text)
	}
	r := recordOf(who, action, name, "")
	if r.Undoes = who.undoes; len(c.Before)+len(c.After) <= mostTold {
		r.Before, r.After = json.RawMessage(c.Before), json.RawMessage(c.After)
	} else {
		r.Detail = "before and after are too long for the trail: history shows them"
	}
	return c, r, nil
}

// mostTold bounds what the trail holds of one change, bytes: a list of trusted certificates may be as long as one likes.
const mostTold = 64 << 10

// Undo takes one change back. What was changed again since, it leaves to whoever takes
// that back first; everything else that changed since stays.
func (o *Office) Undo(ctx context.Context, who Actor, id int64) (records.Change, error) {
	c, err := o.DB.Change(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return c, keep.Refuse(keep.NotFound, "no such change: history lists the ones there are")
	}
	if err != nil {
		return c, err
	}
	if c.UndoneBy != 0 {
		return c, keep.Refuse(keep.AlreadyThere, fmt.Sprintf("the change %d was taken back by the change %d: undo that one to have it again", id, c.UndoneBy))
	}
	if slices.Contains(ownersKinds, c.What) && who.Role != keep.Owner {
		return c, keep.Refuse(keep.NoRight, "only an owner changes that, and takes such a change back")
	}
	way := o.wayOf(c.What)
	now, err := way.now(ctx, c.Name)
	if err != nil {
		return c, err
	}
	who.undoes = id
	switch {
	case c.Before == "":
		if now == nil {
			return c, keep.Refuse(keep.NotFound, "what the change made is gone already")
		}
		if err := way.remove(ctx, who, c.Name); err != nil {
			return c, err
		}
	case c.After == "":
		if now != nil {
			return c, keep.Refuse(keep.AlreadyThere, fmt.Sprintf("there is a %s %s again: rename or remove it first", c.What, c.Name))
		}
		if err := way.put(ctx, who, c.Name, []byte(c.Before)); err != nil {
			return c, err
		}
	default:
		if now == nil {
			return c, keep.Refuse(keep.NotFound, fmt.Sprintf("the %s %s is gone: undo its removal first", c.What, c.Name))
		}
		text, err := takenBack(c, now)
		if err != nil {
			return c, err
		}
		if err := way.put(ctx, who, c.Name, text); err != nil {
			return c, err
		}
	}
	newest, err := o.DB.Changes(ctx, c.What, c.Name, 0, 1)
	if err != nil || len(newest) == 0 {
		return c, err
	}
	return newest[0], nil
}

// takenBack is what is there now, with what one change changed as it was before.
func takenBack(c records.Change, now any) ([]byte, error) {
	text, err := json.Marshal(now)
	if err != nil {
		return nil, err
	}
	var before, after, is map[string]json.RawMessage
	for source, into := range map[*map[string]json.RawMessage][]byte{&before: []byte(c.Before), &after: []byte(c.After), &is: text} {
		if *source, err = flat(into); err != nil {
			return nil, err
		}
	}
	some := false
	for _, key := range slices.Sorted(maps.Keys(union(before, after))) {
		if bytes.Equal(before[key], after[key]) || key == "password" {
			continue // a password that was is known to nobody
		}
		some = true
		if !bytes.Equal(is[key], after[key]) {
			return nil, keep.Refuse(keep.InUse, fmt.Sprintf("%s was changed again since: take that change back first; history lists it", strings.TrimPrefix(key, "settings.")))
		}
		if was, ok := before[key]; ok {
			is[key] = was
		} else {
			delete(is, key)
		}
	}
	if !some {
		return nil, keep.Refuse(keep.BadRequest, "a password can't be taken back: set a new one")
	}
	return unflat(is)
}

func union(a, b map[string]json.RawMessage) map[string]json.RawMessage {
	all := maps.Clone(a)
	maps.Copy(all, b)
	return all
}

// flat is a JSON object with the settings in it as fields of its own.
func flat(text []byte) (fields map[string]json.RawMessage, err error) {
	if err = json.Unmarshal(text, &fields); err != nil || fields["settings"] == nil {
		return fields, err
	}
	var settings map[string]json.RawMessage
	err = json.Unmarshal(fields["settings"], &settings)
	delete(fields, "settings")
	for name, value := range settings {
		fields["settings."+name] = value
	}
	return fields, err
}

func unflat(fields map[string]json.RawMessage) ([]byte, error) {
	all, settings := map[string]any{}, map[string]json.RawMessage{}
	for name, value := range fields {
		if inner, ok := strings.CutPrefix(name, "settings."); ok {
			settings[inner] = value
		} else {
			all[name] = value
		}
	}
	if len(settings) > 0 {
		all["settings"] = settings
	}
	return json.Marshal(all)
}
