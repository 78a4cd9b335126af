package tree

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Taking is how something takes a place.
type Taking struct {
	Replace bool // what is there gives way
	Shallow bool // of a folder that is copied nothing that is in it comes along
	Bin     Bin  // where a folder that gives way is noted; nil: it goes for good
}

// Bin notes what is in the bin of an account.
type Bin interface {
	Note(b keep.Binned) error
	Drop(id string) error
}

// Refusal says what of many things can't be done.
type Refusal struct {
	Path   string
	Folder bool
	Err    error
}

// Refusals are those of one deed, of which nothing was done.
type Refusals []Refusal

func (r Refusals) Error() string { return r[0].Path + ": " + r[0].Err.Error() }
func (r Refusals) Unwrap() error { return r[0].Err }

// maxRefusals bounds those that are told.
const maxRefusals = 1000

// ErrItself, ErrInto and ErrOver refuse to put something where it is, into itself, and in the place of what it lies in.
var (
	ErrItself = error(keep.Refuse(keep.BadRequest, "that is the same place: nothing was done"))
	ErrInto   = error(keep.Refuse(keep.BadRequest, "a folder can't be put into itself"))
	ErrOver   = error(keep.Refuse(keep.BadRequest, "it lies in the folder whose place it would take"))
	errThere  = error(keep.Refuse(keep.AlreadyThere, "the name is taken"))
	errOther  = error(keep.Refuse(keep.InUse, "somebody else has changed what is there meanwhile: look again"))
	errCheck  = error(keep.Refuse(keep.AlreadyThere, "files are checked there before they appear: delete what has the name first"))
)

// apartFrom refuses to put something where it is, into itself, or in the place of what it lies in.
func apartFrom(src, dst *place, folder bool) error {
	switch from, to := src.named(), dst.named(); {
	case from == to:
		return ErrItself
	case folder && to.Within(from):
		return ErrInto
	case from.Within(to):
		return ErrOver
	}
	return nil
}

// there is what has the name of a place; nil is nothing.
func (p *place) there() (fs.FileInfo, error) {
	info, err := p.dir.Lookup(p.name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return info, err
}

// plain reports whether one thing takes the place of another in a single step: files and links do.
func plain(old, new fs.FileInfo) bool {
	return old == nil || !old.IsDir() && new.Mode().IsRegular() && old.Mode().IsRegular()
}

// mayGo decides on all that is at a place, which is to go; with bin it stays in the bin.
func (t *Tree) mayGo(ctx context.Context, p *place, info fs.FileInfo, bin bool) error {
	if err := t.notMount(p.path); err != nil {
		return err
	}
	if p.held != "" {
		return errHeld
	}
	if !info.IsDir() {
		return t.may(keep.Delete, p.path)
	}
	policy := t.policy.Load()
	if err := cmp.Or(t.stays(p, !bin), t.may(keep.Rmdir, p.path)); err != nil {
		return err
	}
	same := policy.Plain(p.path)
	if bin && (policy.Anchored(p.path) || !same) {
		return errMixed
	}
	if same && t.may(keep.Delete|keep.Rmdir, path.Join(p.path, "x")) == nil {
		return nil
	}
	var refused Refusals
	n := 0
	err := t.walk(ctx, p, &n, func(found *place, info fs.FileInfo) error {
		right := keep.Delete
		if info.IsDir() {
			right = keep.Rmdir
		}
		if err := t.may(right, found.path); err != nil && len(refused) < maxRefusals {
			refused = append(refused, Refusal{found.path, info.IsDir(), err})
		}
		return nil
	})
	if err == nil && len(refused) > 0 {
		return refused
	}
	return err
}

// mayGiveWay decides on what has a place that something else is to take.
func (t *Tree) mayGiveWay(ctx context.Context, dst *place, old fs.FileInfo, how Taking) error {
	switch {
	case old == nil:
		return nil
	case !how.Replace:
		return errThere
	case !old.IsDir():
		return cmp.Or(t.may(keep.Overwrite, dst.path), t.notMount(dst.path))
	case t.policy.Load().Anchored(dst.path):
		return keep.Refuse(keep.MountPoint, "the account's grants name that folder or one in it, so it stays where it is")
	}
	return t.mayGo(ctx, dst, old, how.Bin != nil)
}

// swap gives what lies at one place the name of another, where something else lies: that is moved out of sight first, and is back
// when the step after that fails. The caller has the stores alone, and has decided. The deed is written down before each step; as
// long as d.Old is set, what was there lies there.
func (t *Tree) swap(src, dst *place, old fs.FileInfo, how Taking, d *keep.Deed) error {
	aside := dst.aside(d.ID)
	binned := how.Bin != nil && old.IsDir()
	if binned {
		aside = dst.m.inBin(d.ID)
		b := keep.Binned{ID: d.ID, Path: dst.path, Folder: true, Store: dst.m.spot.Store, In: dst.m.spot.Path, Was: dst.named().Folder().Path, Deleted: time.Now(), Until: time.Now().Add(t.BinTime())}
		if err := how.Bin.Note(b); err != nil {
			return err
		}
	}
	d.Old, d.Binned = aside.spot(), binned
	err := t.hangs.Begin(*d)
	if err == nil {
		err = t.shift(dst, &aside, func() (fs.FileInfo, fs.FileInfo, error) {
			now, err := dst.dir.Lookup(dst.name)
			if err == nil && !store.Same(now, old) {
				err = errOther
			}
			return now, nil, err
		}, never)
	}
	if err == nil {
		if err = t.shift(src, dst, look(src, dst), never); err == nil {
			d.Done = true
			err := cmp.Or(aside.settled(src.settled(dst.settled(nil))), t.hangs.Commit(*d, false))
			if binned && err == nil {
				r := t.base(keep.RemoveDir, dst.path)
				t.ended(&r, nil)
				r.Detail = "into the bin until " + time.Now().Add(t.BinTime()).UTC().Format("2006-01-02 15:04 UTC") + ": something took its place"
				t.trail.Note(r)
			}
			return err
		}
		if back := dst.settled(t.shiftBack(&aside, dst)); back != nil {
			return errors.Join(err, back) // the next start puts it right
		}
	}
	d.Old = keep.Spot{}
	if binned {
		err = errors.Join(err, how.Bin.Drop(d.ID))
	}
	return err
}

// look looks at something that goes where nothing is.
func look(src, dst *place) func() (source, replaced fs.FileInfo, err error) {
	return func() (fs.FileInfo, fs.FileInfo, error) {
		info, err := src.dir.Lookup(src.name)
		if _, taken := dst.dir.Lookup(dst.name); err == nil && taken == nil {
			err = errThere
		}
		return info, nil, err
	}
}

// gone removes what was put aside at a place, with a record for each thing, as what has the place's path; then it removes what
// only the service sees.
func (t *Tree) gone(ctx context.Context, p *place, aside place, remark string) error {
	info, err := aside.there()
	if err != nil || info == nil {
		return err
	}
	rest := func() error { return purge(ctx, t.ledger, aside.dir, aside.named().Folder(), aside.name, 0) }
	if !info.IsDir() {
		return t.actNoted(keep.Deleting, p.path, "", func(r *keep.AuditRecord) { r.Detail = remark }, rest)
	}
	t.unseen(p, aside.name, remark).removeAll(ctx, p.path, true, 0, new(removal))
	return rest()
}
