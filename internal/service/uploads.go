package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

var errNobody = keep.Refuse(keep.AccountChanged, "the sign-in has ended")

// holder is the account that a visit is signed in as.
func (v *visit) holder() (*keep.Effective, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.account == nil {
		return nil, errNobody
	}
	return v.account, nil
}

func (v *visit) Uploads(ctx context.Context) ([]keep.PartialUpload, error) {
	a, err := v.holder()
	if err != nil {
		return nil, err
	}
	return v.door.db.Uploads(ctx, a.ID, v.passID())
}

func (v *visit) Upload(ctx context.Context, id string) (keep.PartialUpload, error) {
	a, err := v.holder()
	if err != nil {
		return keep.PartialUpload{}, err
	}
	u, err := v.door.db.Upload(ctx, a.ID, v.passID(), id)
	if errors.Is(err, records.ErrNotFound) {
		err = keep.Refuse(keep.NotFound, "there is no such upload any more: begin it anew")
	}
	return u, err
}

func (v *visit) SaveUpload(ctx context.Context, u keep.PartialUpload, new bool) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	if new && !u.Once {
		n, err := v.door.db.CountUploads(ctx, a.ID, v.passID())
		if err != nil {
			return err
		}
		most := keep.MaxUploads
		if v.pass != nil {
			most = keep.MaxPassUploads
		}
		if n >= most {
			return keep.Refuse(keep.TooManySessions, fmt.Sprintf("there are as many unfinished uploads as may be, %d: finish or remove some first", most))
		}
	}
	u.Account, u.Pass = a.ID, v.passID()
	return v.door.db.SaveUpload(ctx, u)
}

func (v *visit) DropUpload(ctx context.Context, u keep.PartialUpload) error {
	return v.door.drop(ctx, u)
}

// drop removes what has come of an upload, then the upload: where its folder lies by now, which stays there meanwhile.
func (d *door) drop(ctx context.Context, u keep.PartialUpload) error {
	if u.Done { // nothing lies there any more
		return d.db.DropUpload(ctx, u.ID)
	}
	defer d.moves.Hold(u.Store)()
	now, err := d.db.UploadOf(ctx, u.ID)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	u.Store, u.Folder = now.Store, now.Folder
	stores, err := d.db.Stores(ctx)
	if err != nil {
		return err
	}
	for _, s := range stores {
		if s.Name == u.Store {
			if err := d.dropIn(d.stores, s, u); err != nil {
				return err
			}
		}
	}
	return d.db.DropUpload(ctx, u.ID)
}

func (d *door) dropIn(stores *kinds.Stores, s keep.Store, u keep.PartialUpload) error {
	folder, err := stores.Look(s, u.Folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer folder.Close()
	return tree.DropPart(d.ledger, folder, quota.Spot{Store: u.Store, Path: u.Folder}, u.ID)
}

// dropLeftUploads drops the uploads that nobody will go on with.
func (d *door) dropLeftUploads(ctx context.Context) {
	left, err := d.db.LeftUploads(ctx, time.Now(), d.begun)
	for _, u := range left {
		err = errors.Join(err, d.drop(ctx, u))
	}
	if err != nil && ctx.Err() == nil {
		d.log.Error("unfinished uploads not dropped", "cause", err)
	}
}
