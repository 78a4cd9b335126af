package office

import (
	"context"
	"os"
	"reflect"
	"slices"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/disk"
	"urbankeep/internal/files/store/sealed"
	"urbankeep/internal/keep"
)

// durabilitySetting is where what an acknowledgement promises of the trail is kept.
const durabilitySetting = "audit-durability"

type durabilityFacts struct {
	Durability keep.Durability `json:"durability"`
}

// Durability is what an acknowledgement promises of the audit trail.
func (o *Office) Durability(ctx context.Context) (keep.Durability, error) {
	text, err := o.DB.Setting(ctx, durabilitySetting)
	if text == "" {
		return keep.Power, err
	}
	return keep.Durability(text), err
}

// SetDurability says what an acknowledgement promises of the audit trail.
func (o *Office) SetDurability(ctx context.Context, who Actor, d keep.Durability) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.Durability(ctx)
	if err != nil {
		return err
	}
	if err := checkDurability(d); err != nil {
		return err
	}
	err = o.changed(ctx, who, keep.DurabilitySet, durability, "", durabilityFacts{before}, durabilityFacts{d}, func(ctx context.Context) error {
		return o.DB.SaveSetting(ctx, durabilitySetting, string(d))
	})
	if err == nil {
		o.Live.Promise(d)
	}
	return err
}

func checkDurability(d keep.Durability) error {
	if slices.Contains(keep.Durabilities, d) {
		return nil
	}
	return &keep.FieldError{Field: "durability", Say: `use power (what is acknowledged outlives a power cut) or process (it outlives the end of the service)`}
}

// SetStore changes a store; its name, folder and mark stay. It holds for sessions that begin.
func (o *Office) SetStore(ctx context.Context, who Actor, name string, edit func(*keep.Store)) (keep.Store, error) {
	o.storing.Lock()
	defer o.storing.Unlock()
	s, err := o.storeNamed(ctx, name)
	if err != nil {
		return s, err
	}
	before := s
	edit(&s)
	s.Name, s.Kind, s.Folder, s.Mark = before.Name, before.Kind, before.Folder, before.Mark
	if err := checkDurability(s.Durability); err != nil {
		return before, err
	}
	if err := s.CheckSite(); err != nil {
		return before, err
	}
	if s.Secret != before.Secret || !reflect.DeepEqual(s.Site, before.Site) {
		if who.Role != keep.Owner {
			return before, &keep.FieldError{Field: "site", Say: "only an owner can change how a store is reached or who can open its files"}
		}
		for _, r := range s.Site.Recipients {
			if err := sealed.CheckRecipient(r); err != nil {
				return before, &keep.FieldError{Field: "recipients", Say: err.Error()}
			}
		}
		if err := o.Stores.Check(s); err != nil {
			return before, &keep.FieldError{Field: "site", Say: "with that it can't be used, so nothing was changed: " + reasonOf(err)}
		}
		if s.Secret != before.Secret && reflect.DeepEqual(s.Site, before.Site) && s.Durability == before.Durability { // which the history doesn't show
			o.changing.Lock()
			defer o.changing.Unlock()
			err := o.recorded(ctx, who, keep.StoreSet, name, "another secret", func(ctx context.Context) error { return o.DB.SaveStore(ctx, s) })
			return s, err
		}
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	return s, o.changed(ctx, who, keep.StoreSet, stores, name, before, s, func(ctx context.Context) error { return o.DB.SaveStore(ctx, s) })
}

// MarkStore takes the folder that is at a store's place now as the store: for when its mark
// was lost, or a copy of the files was put in its place.
func (o *Office) MarkStore(ctx context.Context, who Actor, name string) (keep.Store, error) {
	o.storing.Lock()
	defer o.storing.Unlock()
	s, err := o.storeNamed(ctx, name)
	if err != nil {
		return s, err
	}
	before := s
	if s.Local() && disk.Contains(o.Dir, s.Folder) { // no disk can be missing there
		if err := os.MkdirAll(s.Folder, store.FolderMode); err != nil {
			return before, keep.Refuse(keep.BadRequest, "the folder "+s.Folder+" can't be made: "+err.Error())
		}
	}
	if s.Mark, err = o.Stores.Mark(s); err != nil {
		return before, keep.Refuse(keep.BadRequest, err.Error())
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	err = o.changed(ctx, who, keep.StoreSet, stores, name, before, s, func(ctx context.Context) error { return o.DB.SaveStore(ctx, s) })
	if err == nil {
		o.Ledger.Doubt()
	}
	return s, err
}

func (o *Office) storeNamed(ctx context.Context, name string) (keep.Store, error) {
	known, err := o.DB.Stores(ctx)
	if err != nil {
		return keep.Store{}, err
	}
	at := slices.IndexFunc(known, func(s keep.Store) bool { return s.Name == name })
	if at < 0 {
		return keep.Store{}, keep.NoSuch("store", name)
	}
	return known[at], nil
}

// putStore gives a store back what it was.
func (o *Office) putStore(ctx context.Context, who Actor, was keep.Store) error {
	if _, err := o.storeNamed(ctx, was.Name); err != nil {
		if !was.Local() && was.Site.SecretFrom == "" && was.Site.KeyFile == "" {
			return keep.Refuse(keep.BadRequest, "its secret is kept nowhere any more: add the store "+was.Name+" anew (store add)")
		}
		_, _, err = o.AddStore(ctx, who, was, "")
		return err
	}
	_, err := o.SetStore(ctx, who, was.Name, func(s *keep.Store) {
		s.Durability, s.Hashes, s.Previews, s.Site = was.Durability, was.Hashes, was.Previews, was.Site
	})
	return err
}

// awayHint is what to do about a store that is away.
func awayHint(s keep.Store) string {
	if s.Local() {
		return "mount its disk; if the folder that is there is the right one, store mark " + s.Name
	}
	return "see that it can be reached from here with what was set: store check " + s.Name
}
