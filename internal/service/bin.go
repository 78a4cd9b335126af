package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sync"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// bins are the things in bins with which something is done just now: one thing with each at a time.
type bins struct{ busy sync.Map }

// take has one of them alone.
func (b *bins) take(id string) (done func(), err error) {
	if _, taken := b.busy.LoadOrStore(id, true); taken {
		return nil, keep.Refuse(keep.InUse, "something else is done with it just now: look at the bin again")
	}
	return func() { b.busy.Delete(id) }, nil
}

func (v *visit) Bin(ctx context.Context) ([]keep.Binned, error) {
	a, err := v.holder()
	if err != nil {
		return nil, err
	}
	return v.door.db.Bin(ctx, a.ID)
}

// Discard puts something of the tree into the bin.
func (v *visit) Discard(ctx context.Context, t *tree.Tree, at, id string) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	if err := v.binHasRoom(ctx, a.ID); err != nil {
		return err
	}
	noted := false
	err = t.Discard(at, id, func(b keep.Binned) error {
		b.Account, noted = a.ID, true
		return v.door.db.AddBinned(ctx, b)
	})
	if err != nil && noted {
		err = errors.Join(err, v.door.db.DropBinned(context.WithoutCancel(ctx), id))
	}
	return err
}

// binHasRoom refuses one thing more than a bin may hold.
func (v *visit) binHasRoom(ctx context.Context, account int64) error {
	n, err := v.door.db.CountBinned(ctx, account)
	if err == nil && n >= keep.MaxBinned {
		err = keep.Refuse(keep.TooLarge, fmt.Sprintf("the bin holds as much as it may, %d things: empty it, or delete for good", keep.MaxBinned))
	}
	return err
}

// binned finds something in the holder's bin, and has it alone.
func (v *visit) binned(ctx context.Context, id string) (b keep.Binned, done func(), err error) {
	a, err := v.holder()
	if err != nil {
		return b, nil, err
	}
	if done, err = v.door.bins.take(id); err != nil {
		return b, nil, err
	}
	if b, err = v.door.db.Binned(ctx, a.ID, id); err != nil {
		done()
		if errors.Is(err, records.ErrNotFound) {
			err = keep.Refuse(keep.NotFound, "it is not in the bin any more")
		}
	}
	return b, done, err
}

// PutBack puts something in the bin back into the tree; a name is another one than it had.
func (v *visit) PutBack(ctx context.Context, t *tree.Tree, id, name string) error {
	b, done, err := v.binned(ctx, id)
	if err != nil {
		return err
	}
	defer done()
	if at, known := t.PathTo(keep.Spot{Store: b.Store, Path: path.Join(b.Was, path.Base(b.Path))}); known && b.Was != "" {
		b.Path = at // its folder may have another name by now
	}
	if err := t.PutBack(b, name); err != nil {
		return err
	}
	return v.door.db.DropBinned(context.WithoutCancel(ctx), id)
}

// EmptyBin removes something in the bin for good.
func (v *visit) EmptyBin(ctx context.Context, id string) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	b, done, err := v.binned(ctx, id)
	if err != nil {
		return err
	}
	defer done()
	r := keep.AuditRecord{Account: a.Name, Address: v.visitor.Address, Protocol: v.visitor.Protocol, Encrypted: v.visitor.Encrypted, Session: v.visitor.Session}
	return v.door.emptyBin(ctx, b, r, "out of the bin for good")
}

// emptyBin removes something in a bin, and records that.
func (d *door) emptyBin(ctx context.Context, b keep.Binned, r keep.AuditRecord, note string) error {
	if r.Action, r.Path = keep.Deleting, b.Path; b.Folder {
		r.Action = keep.RemoveDir
	}
	end, err := d.trail.Announce(r, "")
	if err != nil {
		return err
	}
	err = d.purge(ctx, b)
	if r.Outcome, r.Reason, r.Detail = keep.OutcomeOf(err); err == nil {
		r.Detail = note
	}
	return errors.Join(err, end(r))
}

func (d *door) purge(ctx context.Context, b keep.Binned) error {
	stores, err := d.db.Stores(ctx)
	if err != nil {
		return err
	}
	for _, s := range stores {
		if s.Name != b.Store {
			continue
		}
		folder, err := d.stores.Look(s, b.In)
		if errors.Is(err, fs.ErrNotExist) {
			break
		}
		if err != nil {
			return err
		}
		err = tree.EmptyBin(ctx, d.ledger, folder, quota.Spot{Store: b.Store, Path: b.In}, b.ID)
		if err = errors.Join(err, folder.Close()); err != nil {
			return err
		}
	}
	return d.db.DropBinned(context.WithoutCancel(ctx), b.ID)
}

// emptyBins removes what has lain in a bin for its time.
func (d *door) emptyBins(ctx context.Context) {
	left, err := d.db.LeftBinned(ctx, time.Now())
	for _, b := range left {
		done, busy := d.bins.take(b.ID)
		if busy != nil || ctx.Err() != nil {
			continue
		}
		var r keep.AuditRecord
		if name, unknown := d.db.AccountName(ctx, b.Account); unknown == nil {
			r.Account = name
		}
		err = errors.Join(err, d.emptyBin(ctx, b, r, "its time in the bin is over"))
		done()
	}
	if err != nil && ctx.Err() == nil {
		d.log.Error("bins not emptied", "cause", err)
	}
}
