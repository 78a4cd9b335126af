package service

import (
	"context"
	"maps"
	"slices"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// hangs is what hangs on places, as the tree knows it; see [tree.Hangings].
type hangs struct {
	db   *records.DB
	door *door
}

var (
	errUploading = keep.Refuse(keep.InUse, "an upload into the folder is not whole yet: it must come to its end, or be given up, first")
	errMounted   = keep.Refuse(keep.InUse, "somebody works in a folder of their own there just now: try again when they have left")
	errBinIn     = keep.Refuse(keep.InUse, "what was deleted and can be put back lies in there: empty that bin first")
)

func (h hangs) Stays(at keep.Spot, gone bool) error {
	if h.door.mounted(at) {
		return errMounted
	}
	if !gone {
		return nil // what hangs on it goes along
	}
	if some, err := h.db.Uploading(context.Background(), at); err != nil || some {
		return orElse(err, errUploading)
	}
	if some, err := h.db.BinnedIn(context.Background(), at); err != nil || some {
		return orElse(err, errBinIn)
	}
	return nil
}

// mounted reports whether a folder that somebody who is in has mounted lies at a spot or below it: it stays where it is while they
// are.
func (d *door) mounted(at keep.Spot) bool {
	d.mu.Lock()
	inside := slices.Collect(maps.Keys(d.inside))
	d.mu.Unlock()
	return slices.ContainsFunc(inside, func(v *visit) bool {
		v.mu.Lock()
		defer v.mu.Unlock()
		return v.tree != nil && v.tree.Mounts(at)
	})
}

func orElse(err error, fault *keep.Fault) error {
	if err != nil {
		return err
	}
	return fault
}

func (h hangs) Any(at keep.Spot) bool {
	some, err := h.db.Hanging(context.Background(), at)
	return some || err != nil // then the deed will say so
}

func (h hangs) Begin(d keep.Deed) error { return h.db.SaveDeed(context.Background(), d) }

func (h hangs) Commit(d keep.Deed, over bool) error {
	from := d.From
	if d.Source != (keep.Spot{}) {
		from = d.Source
	}
	return h.db.Together(context.Background(), func(ctx context.Context) error {
		if d.Old != (keep.Spot{}) && d.Binned { // what gave way keeps what hangs on it
			if err := h.db.Moved(ctx, d.To, d.Old, true); err != nil {
				return err
			}
		}
		if err := h.db.Moved(ctx, from, d.To, false); err != nil {
			return err
		}
		if over {
			return h.db.DropDeed(ctx, d.ID)
		}
		d.Done = true
		return h.db.SaveDeed(ctx, d)
	})
}

func (h hangs) Forget(id string) error { return h.db.DropDeed(context.Background(), id) }

// mend puts right what the end of the process before has cut off, as far as the stores are there; what is left is given. The log
// tells of it at the start.
func (s *Service) mend(ctx context.Context, left []keep.Deed, start bool) (still []keep.Deed) {
	m := tree.Mender{Ledger: s.ledger, Hangs: hangs{s.DB, s.door}, Numbered: numbered,
		Look: func(folder keep.Spot) (store.Folder, error) {
			known, err := s.store(ctx, folder.Store)
			if err != nil {
				return nil, err
			}
			return s.Stores.Look(known, folder.Path)
		},
		Unbin: func(id string) error { return s.DB.DropBinned(ctx, id) }}
	for _, d := range left {
		if ctx.Err() != nil {
			return left
		}
		said, err := m.Mend(ctx, d)
		if err != nil {
			if start {
				s.log.Error("what was cut off is not put right yet, and is tried again", "account", d.Account, "path", d.Path, "cause", causeOf(err))
			}
			still = append(still, d)
			continue
		}
		if said != "" {
			s.Trail.Note(keep.AuditRecord{At: time.Now().UTC(), Account: d.Account, Action: keep.Renaming, Path: d.Path, Outcome: keep.Interrupted, Detail: "the end of the service cut it off: " + said})
		}
	}
	return still
}

// noting notes what gives way to something else in the bin of whoever is in.
type noting struct{ v *visit }

func (n noting) Note(b keep.Binned) error {
	a, err := n.v.holder()
	if err != nil {
		return err
	}
	if err := n.v.binHasRoom(context.Background(), a.ID); err != nil {
		return err
	}
	b.Account = a.ID
	return n.v.door.db.AddBinned(context.Background(), b)
}

func (n noting) Drop(id string) error { return n.v.door.db.DropBinned(context.Background(), id) }
