package keep

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Group is settings, mounts and grants that its accounts inherit.
type Group struct {
	ID       int64
	Name     string
	Note     string
	Settings Settings
	Mounts   []Mount
	Grants   []Grant
	Created  time.Time
	Changed  time.Time
}

// Check reports what is wrong with the group as a [*FieldError], and brings paths
// into their clean form.
func (g *Group) Check() error {
	if err := CheckName("name", g.Name); err != nil {
		return err
	}
	if err := g.Settings.check(); err != nil {
		return err
	}
	if err := checkMounts(g.Mounts); err != nil {
		return err
	}
	return checkGrants(g.Grants)
}

// Effective is an account as it may be used: its own settings and those of its
// groups put together.
type Effective struct {
	*Account
	Terms          // in force
	Mounts []Mount // its own and those of its groups, {group} replaced; a path that two bring is the first's
	Grants []Grant // its own, and those of its groups on other paths
	scope  *Scope  // narrows it further; nil: it is as it is
	from   []string
	passed []Grant // of groups, on paths on which the account has its own
}

// Resolve puts an account and its groups, which are given in the account's order,
// together. The error is a [*FieldError] that says what would be wrong with it.
//
// The rule: what the account sets itself decides; else the first of its groups
// that sets a value decides it. Mounts add up; the first that brings a path decides it.
// On each path the account's own grants count where it has any there; else those of its
// groups add up.
func Resolve(a *Account, groups []*Group) (*Effective, error) {
	e := &Effective{Account: a}
	e.Terms, e.from = inForce(&a.Settings, groups)
	if a.Anonymous() {
		e.SignInBy = DefaultProofs
	}
	if !e.ValidFrom.IsZero() && !e.ValidUntil.IsZero() && !e.ValidFrom.Before(e.ValidUntil.Time) {
		return nil, &FieldError{"validUntil", "the account's time would end before it begins: give a later end"}
	}
	own := ""
	if len(groups) > 0 {
		own = groups[0].Name
	}
	if err := e.mount(a.Mounts, "", own); err != nil {
		return nil, err
	}
	e.Grants = slices.Clone(a.Grants)
	for _, g := range groups {
		if err := e.mount(g.Mounts, g.Name, g.Name); err != nil {
			return nil, err
		}
		for _, grant := range g.Grants {
			if slices.ContainsFunc(a.Grants, func(own Grant) bool { return own.Path == grant.Path }) {
				grant.From = g.Name
				e.passed = append(e.passed, grant)
				continue
			}
			grant.From = g.Name
			e.Grants = append(e.Grants, grant)
		}
	}
	home := slices.IndexFunc(e.Mounts, func(m Mount) bool { return m.At == "/" })
	if home < 0 {
		return nil, &FieldError{"home", "a home is always explicit: name a store and a folder in it, as in files:{account}, or a group that brings one"}
	}
	if m := &e.Mounts[home]; m.Quota == nil && (e.QuotaBytes > 0 || e.QuotaFiles > 0) {
		m.Quota = &Quota{e.QuotaBytes, e.QuotaFiles}
	}
	if a.Anonymous() {
		for i := range e.Grants {
			e.Grants[i].Rights &= readOnly
		}
	}
	return e, nil
}

// mount adds mounts at paths that are still free.
func (e *Effective) mount(mounts []Mount, from, group string) error {
	for _, m := range mounts {
		if slices.ContainsFunc(e.Mounts, func(there Mount) bool { return there.At == m.At }) {
			continue
		}
		if strings.Contains(m.Folder, "{group}") && group == "" {
			return &FieldError{"mounts", fmt.Sprintf("the folder %q has {group}, and the account is in no group", m.Folder)}
		}
		m.Folder, m.From = strings.ReplaceAll(m.Folder, "{group}", group), from
		e.Mounts = append(e.Mounts, m)
	}
	return nil
}

// Values are the settings in force, each with where it comes from.
func (e *Effective) Values() []SetValue { return e.Terms.values(e.from) }

// Sets are the settings that the group sets.
func (g *Group) Sets() []SetValue {
	t, from := inForce(&Settings{}, []*Group{g})
	return slices.DeleteFunc(t.values(from), func(v SetValue) bool { return v.From == "" })
}

// Admit reports whether the account may sign in from an address.
func (e *Effective) Admit(address string) bool { return Rules{e.Allow, e.Deny}.Admit(address) }

// MayUse reports whether the account may sign in over a protocol. Nobody signs in
// as anonymous but over FTP, whose custom that is (RFC 1635).
func (e *Effective) MayUse(p Protocol) bool {
	return e.Protocols.Has(p) && (!e.Anonymous() || p.IsFTP())
}

// MayEnter reports whether it may sign in at a listener of a protocol: those of SFTP take scp, too.
func (e *Effective) MayEnter(p Protocol) bool { return e.MayUse(p) || p == SFTP && e.MayUse(SCP) }

// FromOf says where a mount or grant comes from: "account" or "group NAME".
func FromOf(group string) string {
	if group == "" {
		return "account"
	}
	return "group " + group
}

// Place is a folder in a store, and the most that it may hold.
type Place struct {
	Store  string
	Folder string // relative, "." for the whole store
	Quota  Quota
}

// Places are the folders of the account's mounts, with their quotas.
func (e *Effective) Places() []Place {
	found := make([]Place, len(e.Mounts))
	for i, m := range e.Mounts {
		found[i] = Place{Store: m.Store, Folder: m.FolderFor(e.Name)}
		if m.Quota != nil {
			found[i].Quota = *m.Quota
		}
	}
	return found
}
