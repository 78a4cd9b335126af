package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store/disk"
	"urbankeep/internal/files/store/sealed"
	"urbankeep/internal/keep"
)

// The settings in which the folders that stores may use, and the network rules of
// the service, are kept.
const (
	groundsSetting = "store-grounds"
	gateSetting    = "gate"
)

// Grounds are the folders of the machine below which stores may lie; none: anywhere.
func (o *Office) Grounds(ctx context.Context) ([]string, error) {
	text, err := o.DB.Setting(ctx, groundsSetting)
	return strings.FieldsFunc(text, func(r rune) bool { return r == '\n' }), err
}

type groundsFacts struct {
	Folders []string `json:"folders"`
}

// SetGrounds says which folders of the machine stores may use at all. A store that
// would be outside keeps it from being said.
func (o *Office) SetGrounds(ctx context.Context, who Actor, folders []string) error {
	o.storing.Lock()
	defer o.storing.Unlock()
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.Grounds(ctx)
	if err != nil {
		return err
	}
	for i, folder := range folders {
		if folders[i], err = disk.Real(folder); err != nil {
			return &keep.FieldError{Field: "grounds", Say: err.Error()}
		}
	}
	known, err := o.DB.Stores(ctx)
	if err != nil {
		return err
	}
	for _, s := range known {
		if s.Local() && len(folders) > 0 && !slices.ContainsFunc(folders, func(g string) bool { return disk.Contains(g, s.Folder) }) {
			return keep.Refuse(keep.InUse, fmt.Sprintf("the store %s lies in %s, which would be outside: name a folder that holds it too", s.Name, s.Folder))
		}
	}
	return o.changed(ctx, who, keep.GroundsSet, grounds, "", groundsFacts{before}, groundsFacts{folders}, func(ctx context.Context) error {
		return o.DB.SaveSetting(ctx, groundsSetting, strings.Join(folders, "\n"))
	})
}

// AddStore founds a store: a folder of the machine is made where it is missing. The key of a new sealed store is
// given once, for safe keeping.
func (o *Office) AddStore(ctx context.Context, who Actor, s keep.Store, passphrase keep.Secret) (_ keep.Store, key string, err error) {
	o.storing.Lock()
	defer o.storing.Unlock()
	if err := keep.CheckName("name", s.Name); err != nil {
		return s, "", err
	}
	if s.Kind == "" {
		s.Kind = keep.Disk
	}
	if err := s.CheckSite(); err != nil {
		return s, "", err
	}
	known, err := o.DB.Stores(ctx)
	if err != nil {
		return s, "", err
	}
	if slices.ContainsFunc(known, func(other keep.Store) bool { return strings.EqualFold(other.Name, s.Name) }) {
		return s, "", errNameTaken
	}
	if s.Durability == "" {
		s.Durability = keep.Power
	}
	if s.Local() {
		err = o.found(ctx, who, &s, known)
	} else {
		err = o.reach(ctx, who, &s)
	}
	if err != nil {
		return s, "", err
	}
	if s.Kind == keep.Sealed {
		if key, err = o.makeKey(who, s, passphrase); err != nil {
			return s, "", err
		}
	}
	if err := o.Stores.Check(s); err != nil {
		return s, key, &keep.FieldError{Field: "name", Say: reasonOf(err)}
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	return s, key, o.changed(ctx, who, keep.StoreAdd, stores, s.Name, nil, s, func(ctx context.Context) error { return o.DB.SaveStore(ctx, s) })
}

// found makes a folder of the machine ready.
func (o *Office) found(ctx context.Context, who Actor, s *keep.Store, known []keep.Store) error {
	below, err := o.Grounds(ctx)
	if err != nil {
		return err
	}
	if who.Role != keep.Owner && len(below) == 0 {
		return &keep.FieldError{Field: "folder", Say: "only an owner can make a folder anywhere on the machine a store; once an owner has said where stores may lie (store grounds), managers can make them there"}
	}
	if s.Folder, err = disk.Found(s.Folder, below, known, o.Dir); err != nil {
		return &keep.FieldError{Field: "folder", Say: err.Error()}
	}
	if s.Mark, err = o.Stores.Mark(*s); err != nil {
		return &keep.FieldError{Field: "folder", Say: err.Error()}
	}
	return nil
}

// reach marks a place that is not on this machine.
func (o *Office) reach(_ context.Context, who Actor, s *keep.Store) (err error) {
	if who.Role != keep.Owner {
		return &keep.FieldError{Field: "kind", Say: "only an owner can make a store of this kind, since the service calls other machines for it"}
	}
	if s.Folder != "" {
		return &keep.FieldError{Field: "folder", Say: "a store of kind " + string(s.Kind) + " has no folder on this machine: leave it out"}
	}
	if s.Mark, err = o.Stores.Mark(*s); err != nil {
		return &keep.FieldError{Field: "site", Say: reasonOf(err)}
	}
	return nil
}

// makeKey makes the key of a sealed store, or takes the one that is there.
func (o *Office) makeKey(who Actor, s keep.Store, passphrase keep.Secret) (string, error) {
	for _, r := range s.Site.Recipients {
		if err := sealed.CheckRecipient(r); err != nil {
			return "", &keep.FieldError{Field: "recipients", Say: err.Error()}
		}
	}
	switch {
	case s.Site.Key == keep.ByPassphrase && len(passphrase) < minPassphrase:
		return "", &keep.FieldError{Field: "passphrase", Say: fmt.Sprintf("give a passphrase of at least %d characters", minPassphrase)}
	case s.Site.Key != keep.ByPassphrase && passphrase != "":
		return "", &keep.FieldError{Field: "passphrase", Say: "say too that the key is encrypted with it (key: passphrase)"}
	case s.Site.Key != "" && s.Site.Key != keep.ByPassphrase && who.Role != keep.Owner:
		return "", &keep.FieldError{Field: "key", Say: "only an owner can have the service read a file of the machine"}
	}
	key, err := o.Stores.MakeKey(s, passphrase.Reveal())
	if err != nil {
		return "", &keep.FieldError{Field: "key", Say: err.Error()}
	}
	return key, nil
}

// minPassphrase is the shortest that encrypts a store's key, characters.
const minPassphrase = 12

// reasonOf is what operators may hear of a store's error: with real places.
func reasonOf(err error) string {
	if fault := (*keep.Fault)(nil); errors.As(err, &fault) && fault.Cause != nil {
		return fault.Cause.Error()
	}
	return err.Error()
}

// CheckStore tries everything that the service asks of a store.
func (o *Office) CheckStore(ctx context.Context, who Actor, name string) (api.StoreCheck, error) {
	s, err := o.storeNamed(ctx, name)
	if err != nil {
		return api.StoreCheck{}, err
	}
	done := api.StoreCheck{Fine: true}
	for _, step := range o.Stores.Try(s) {
		shown := api.StoreStep{What: step.What, Fine: step.Err == nil, Took: step.Took.Milliseconds()}
		if step.Err != nil {
			shown.Say, done.Fine = reasonOf(step.Err), false
		}
		done.Steps = append(done.Steps, shown)
	}
	return done, nil
}

// UnlockStore gives the passphrase of a sealed store's key, until the service ends.
func (o *Office) UnlockStore(ctx context.Context, who Actor, name string, passphrase keep.Secret) (keep.Store, error) {
	s, err := o.storeNamed(ctx, name)
	if err != nil {
		return s, err
	}
	if s.Kind != keep.Sealed || s.Site.Key != keep.ByPassphrase {
		return s, &keep.FieldError{Field: "passphrase", Say: "the store " + name + " has no key that is encrypted with one"}
	}
	if err := o.Stores.Unlock(s, passphrase.Reveal()); err != nil {
		return s, &keep.FieldError{Field: "passphrase", Say: err.Error()}
	}
	return s, o.record(who, keep.StoreUnlock, name, "")
}

// StoreUsers are the groups and accounts with a mount in a store, by name.
func (o *Office) StoreUsers(ctx context.Context, store string) ([]string, error) {
	users := []string{}
	groups, err := o.DB.Groups(ctx)
	for _, g := range groups {
		if slices.ContainsFunc(g.Mounts, func(m keep.Mount) bool { return m.Store == store }) {
			users = append(users, "group "+g.Name)
		}
	}
	return append(users, o.places.owners(store)...), err
}

// Written reports whether a mount leads to a store that is not read-only.
func (o *Office) Written(ctx context.Context, store string) bool {
	writes := func(m keep.Mount) bool { return m.Store == store && !m.ReadOnly }
	groups, err := o.DB.Groups(ctx)
	if err != nil || slices.ContainsFunc(groups, func(g *keep.Group) bool { return slices.ContainsFunc(g.Mounts, writes) }) {
		return true
	}
	accounts, err := o.DB.AllAccounts(ctx)
	return err != nil || slices.ContainsFunc(accounts, func(a *keep.Account) bool { return slices.ContainsFunc(a.Mounts, writes) })
}

// RemoveStore forgets a store that no mount uses. Its files stay.
func (o *Office) RemoveStore(ctx context.Context, who Actor, name string) error {
	o.storing.Lock()
	defer o.storing.Unlock()
	o.changing.Lock()
	defer o.changing.Unlock()
	known, err := o.DB.Stores(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(known, func(s keep.Store) bool { return s.Name == name })
	if at < 0 {
		return keep.NoSuch("store", name)
	}
	in, err := o.StoreUsers(ctx, name)
	if err != nil {
		return err
	}
	if len(in) > 0 {
		return keep.Refuse(keep.InUse, "the store "+name+" is in use by the mounts of "+listed(in, "")+": take those away first")
	}
	gone := known[at]
	return o.changed(ctx, who, keep.StoreRemove, stores, name, gone, nil, func(ctx context.Context) error { return o.DB.DeleteStore(ctx, name) })
}

// Recount counts a folder with a quota anew.
func (o *Office) Recount(ctx context.Context, who Actor, spot quota.Spot) (quota.Difference, error) {
	d, err := o.Ledger.Recount(spot)
	if err != nil {
		return d, err
	}
	return d, o.record(who, keep.QuotaRecount, spot.Store+":"+spot.Path, d.String())
}

// Gate is the network rules of the service.
func (o *Office) Gate(ctx context.Context) (rules keep.Rules, err error) {
	text, err := o.DB.Setting(ctx, gateSetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &rules)
	}
	return rules, err
}

// SetGate says which networks may connect at all, to every listener and to the
// console. Rules that would shut out the operator who makes them are refused
// unless that is meant. The control socket always stays open.
func (o *Office) SetGate(ctx context.Context, who Actor, rules keep.Rules, meant bool) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	if who.Address != "" && !rules.Admit(who.Address) && !meant {
		return keep.Refuse(keep.ShutsYouOut, "that would shut you out: you come from "+who.Address+", which these rules do not let in. Say that you mean it, or let your address in")
	}
	before, err := o.Gate(ctx)
	if err != nil {
		return err
	}
	text, err := json.Marshal(rules)
	if err != nil {
		return err
	}
	if err := o.changed(ctx, who, keep.GateSet, gate, "", before, rules, func(ctx context.Context) error { return o.DB.SaveSetting(ctx, gateSetting, string(text)) }); err != nil {
		return err
	}
	o.Live.Admit(rules)
	return nil
}
