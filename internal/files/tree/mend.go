package tree

import (
	"context"
	"errors"
	"io/fs"
	"path"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Mender puts right what the end of the process has cut off. It needs no account.
type Mender struct {
	Ledger   *quota.Ledger
	Hangs    Hangings
	Look     func(folder keep.Spot) (store.Folder, error) // opens a folder that is there
	Unbin    func(id string) error                        // forgets what did not get into the bin
	Numbered func(name string, n int) string              // another name where one's own is taken
}

// end is one end of a deed.
type end struct {
	spot keep.Spot
	dir  store.Folder // nil: it is not there
	name string
	info fs.FileInfo // nil: nothing is there
}

func (e *end) close() {
	if e.dir != nil {
		e.dir.Close()
	}
}

func (m *Mender) end(spot keep.Spot) (e end, err error) {
	if e.spot = spot; spot == (keep.Spot{}) {
		return e, nil
	}
	e.name = keep.Unspell(path.Base(spot.Path))
	if e.dir, err = m.Look(spot.Folder()); err == nil {
		e.info, err = e.dir.Lookup(e.name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return e, err
}

// Mend brings a deed to its end, or takes it back: what gave way is back where nothing has taken its place. said tells what was
// done, "" for nothing that anybody would notice.
func (m *Mender) Mend(ctx context.Context, d keep.Deed) (said string, err error) {
	var from, to, old, away, source end
	for _, e := range []struct {
		end  *end
		spot keep.Spot
	}{{&from, d.From}, {&to, d.To}, {&old, d.Old}, {&away, d.Away}, {&source, d.Source}} {
		if *e.end, err = m.end(e.spot); err != nil {
			return "", err
		}
		defer e.end.close()
	}
	done := d.Done
	switch {
	case done:
	case d.Old != keep.Spot{}:
		done = old.info != nil && from.info == nil && to.info != nil
	case d.Source == keep.Spot{} && !d.Stage:
		done = from.info == nil && (d.To == keep.Spot{} || to.info != nil)
	}
	if done {
		if !d.Done {
			err = m.Hangs.Commit(d, false)
		}
		if err == nil && old.info != nil && !d.Binned {
			said, err = "it was done; what gave way is gone", m.purge(ctx, &old)
		}
		if err == nil && away.info != nil {
			said, err = "it was done; what was moved is gone where it was", m.purge(ctx, &away)
		}
	} else {
		if old.info != nil {
			said, err = "it was not done; what was there is back", m.back(&old, &to)
		}
		if err == nil && d.Binned {
			err = m.Unbin(d.ID)
		}
		if err == nil && away.info != nil {
			said, err = "it was not done; what was to be moved is back", m.back(&away, &source)
		}
		if err == nil && d.Stage && from.info != nil {
			if err = m.purge(ctx, &from); said == "" {
				said = "it was not done; what had been copied is gone"
			}
		}
	}
	if err != nil {
		return "", err
	}
	return said, m.Hangs.Forget(d.ID)
}

func (m *Mender) purge(ctx context.Context, e *end) error {
	return purge(ctx, m.Ledger, e.dir, e.spot.Folder(), e.name, 0)
}

// back puts something back where it was, under another name if its own is taken by now.
func (m *Mender) back(from, to *end) (err error) {
	if to.dir == nil {
		return keep.Refuse(keep.NotFound, "the folder in which it was is not there")
	}
	name := path.Base(to.spot.Path)
	for n := 1; n < maxNumbered; n++ {
		as := name
		if n > 1 {
			as = m.Numbered(name, n)
		}
		real := keep.Unspell(as)
		move := quota.Move{Back: true, From: from.spot, To: keep.Spot{Store: to.spot.Store, Path: path.Join(path.Dir(to.spot.Path), as)},
			Inside: func() (store.Folder, error) { return from.dir.Enter(from.name) },
			Look: func() (fs.FileInfo, fs.FileInfo, error) {
				info, err := from.dir.Lookup(from.name)
				if _, taken := to.dir.Lookup(real); err == nil && taken == nil {
					err = fs.ErrExist
				}
				return info, nil, err
			}}
		err = m.Ledger.Rename(move, func() error { return from.dir.Rename(from.name, to.dir, real, false) })
		if !errors.Is(err, fs.ErrExist) {
			break
		}
	}
	return errors.Join(err, store.Sync(to.dir), store.Sync(from.dir))
}
