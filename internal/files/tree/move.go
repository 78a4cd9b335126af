package tree

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"time"

	"urbankeep/internal/keep"
)

// Move moves what has a path, a link itself, to another. Where that lies in another store, or in the ground of another quota, it is a
// copy, and then the end of what was copied. All of it is decided before anything moves; see [Tree.Copy]. replaced says that
// something gave way.
func (t *Tree) Move(ctx context.Context, from, to string, how Taking) (replaced bool, err error) {
	note := func(r *keep.AuditRecord) {
		if replaced {
			r.Detail = "it took the place of what was there"
		}
	}
	var old *place
	var d keep.Deed
	err = t.actNoted(keep.Renaming, from, to, note, func() (err error) {
		replaced, old, d, err = t.moveNear(ctx, from, to, how)
		return err
	})
	if fault := (*keep.Fault)(nil); errors.As(err, &fault) && fault.Reason == keep.AcrossMounts {
		return t.moveFar(ctx, from, to, how)
	}
	if err == nil && old != nil {
		defer old.close()
		if !d.Binned {
			err = t.gone(context.WithoutCancel(ctx), old, old.aside(d.ID), "what was moved there took its place")
		}
		if err == nil { // else the next start does the rest
			err = t.hangs.Forget(d.ID)
		}
	}
	return replaced, shown(err)
}

// moveNear moves within a store. old is the place of what gave way and is still to go.
func (t *Tree) moveNear(ctx context.Context, from, to string, how Taking) (replaced bool, old *place, d keep.Deed, err error) {
	folders, replaced, err := t.lookMove(from, to, how)
	if err != nil {
		return false, nil, d, err
	}
	if !folders {
		return replaced, nil, d, t.rename(from, to, how.Replace)
	}
	done, err := t.alone(from, to)
	if err != nil {
		return false, nil, d, err
	}
	defer done()
	src, err := t.resolve(from, false, keep.Rename)
	if err != nil {
		return false, nil, d, err
	}
	defer src.close()
	dst, err := t.resolve(to, false, keep.Rename)
	if err != nil {
		return false, nil, d, err
	}
	defer func() {
		if old == nil {
			dst.close()
		}
	}()
	info, err := src.dir.Lookup(src.name)
	if err != nil {
		return false, nil, d, err
	}
	there, err := dst.there()
	if err != nil {
		return false, nil, d, err
	}
	if there == nil {
		return false, nil, d, errOther
	}
	switch err := cmp.Or(apartFrom(&src, &dst, info.IsDir()), t.mayMove(&src, &dst)); {
	case err != nil:
		return false, nil, d, err
	case src.held != "" || dst.held != "":
		return false, nil, d, errHeld
	case src.m != dst.m && t.checkAt(dst.path) != nil:
		return false, nil, d, keep.Refuse(keep.AcrossMounts, "files come into that folder by an upload only, so that they are checked: copy it there")
	}
	if err := cmp.Or(t.stays(&src, false), t.mayMoveInside(&src, &dst), t.mayGiveWay(ctx, &dst, there, how)); err != nil {
		return false, nil, d, err
	}
	d = t.newDeed(src.spot(), dst.spot(), dst.path)
	if err := t.swap(&src, &dst, there, how, &d); err != nil {
		if d.Old == (keep.Spot{}) {
			err = errors.Join(err, t.hangs.Forget(d.ID))
		}
		return false, nil, d, err
	}
	return true, &dst, d, nil
}

// lookMove looks at both ends before anything is tried: folders says that a folder takes the place of something, or gives way.
func (t *Tree) lookMove(from, to string, how Taking) (folders, replaces bool, err error) {
	defer t.deeds(from, to)()
	src, err := t.resolve(from, false, keep.Rename)
	if err != nil {
		return false, false, err
	}
	defer src.close()
	dst, err := t.resolve(to, false, keep.Rename)
	if err != nil {
		return false, false, err
	}
	defer dst.close()
	if err := cmp.Or(apartFrom(&src, &dst, true), t.mayMove(&src, &dst)); err != nil {
		return false, false, err
	}
	info, err := src.dir.Lookup(src.name)
	if err != nil {
		return false, false, err
	}
	old, err := dst.there()
	if err != nil {
		return false, false, err
	}
	if old != nil && !how.Replace {
		return false, false, errThere
	}
	return old != nil && (old.IsDir() || info.IsDir()), old != nil, nil
}

// moveFar copies, and then removes what was copied: that lies out of sight meanwhile, so that nothing that somebody puts into it is
// lost.
func (t *Tree) moveFar(ctx context.Context, from, to string, how Taking) (replaced bool, err error) {
	c, src, link, err := t.planFar(ctx, from, to, how)
	if err != nil {
		t.noteRefused(keep.Renaming, from, to, err)
		return false, shown(err)
	}
	defer c.close()
	defer src.close()
	if link { // what it leads to stays
		if c.inPlace {
			err = c.copy(ctx, t, t)
		} else {
			err = c.staged(ctx, t, how, nil)
		}
		return c.old != nil, asFault(cmp.Or(err, t.Remove(from)))
	}
	d := t.newDeed(keep.Spot{}, c.dst.named(), c.dst.path)
	away := src.aside(d.ID)
	d.Source, d.Away = src.spot(), away.spot()
	if err := t.hangs.Begin(d); err != nil {
		return false, asFault(err)
	}
	if err := t.putAside(ctx, src, &away, c.info); err != nil {
		return false, asFault(errors.Join(err, t.hangs.Forget(d.ID)))
	}
	reading := t.unseen(src, away.name, "")
	if c.inPlace {
		if err = c.copy(ctx, reading, t); err == nil {
			err = t.hangs.Commit(d, false)
		}
	} else {
		err = c.staged(ctx, reading, how, &d)
	}
	if err != nil {
		return false, asFault(errors.Join(err, t.backFrom(src, &away, &d)))
	}
	if err := t.gone(context.WithoutCancel(ctx), src, away, "it was moved to "+c.dst.path); err != nil {
		return false, asFault(err) // the next start does the rest
	}
	return c.old != nil, asFault(t.hangs.Forget(d.ID))
}

// backFrom puts back what was to be moved.
func (t *Tree) backFrom(src, away *place, d *keep.Deed) error {
	done, err := t.alone(src.path, src.path)
	if err != nil {
		return err // the next start puts it back
	}
	defer done()
	err = src.settled(t.shiftBack(away, src))
	if err == nil && d.Old == (keep.Spot{}) {
		err = t.hangs.Forget(d.ID)
	}
	return err
}

// planFar decides on both ends.
func (t *Tree) planFar(ctx context.Context, from, to string, how Taking) (c *copying, src *place, link bool, err error) {
	if c, err = t.planCopy(ctx, from, to, how); err != nil {
		return nil, nil, false, err
	}
	defer t.deed(from)()
	p, err := t.resolve(from, false, keep.Delete)
	if err != nil {
		c.close()
		return nil, nil, false, err
	}
	info, err := p.dir.Lookup(p.name)
	if err == nil {
		link = info.Mode()&fs.ModeSymlink != 0
		err = t.mayGo(ctx, &p, info, false)
	}
	if err == nil && t.policy.Load().Anchored(p.path) {
		err = keep.Refuse(keep.MountPoint, "the account's grants name that folder or one in it, so it stays where it is")
	}
	if err != nil {
		p.close()
		c.close()
		return nil, nil, false, err
	}
	return c, &p, link, nil
}

// putAside moves what is to be copied out of sight.
func (t *Tree) putAside(ctx context.Context, src, away *place, info fs.FileInfo) error {
	done, err := t.alone(src.path, src.path)
	if err != nil {
		return err
	}
	defer done()
	now, err := t.resolve(src.path, false, keep.Delete)
	if err != nil {
		return err
	}
	defer now.close()
	if now.named() != src.named() {
		return errOther
	}
	if err := cmp.Or(t.mayGo(ctx, &now, info, false), t.seesAll(ctx, &now, info)); err != nil {
		return err
	}
	return src.settled(t.shift(src, away, look(src, away), never))
}

// seesAll refuses to copy and then remove a folder of which not everything would be copied: what the account can't see, and links
// that lead nowhere. The caller has the store alone.
func (t *Tree) seesAll(ctx context.Context, p *place, info fs.FileInfo) error {
	if !info.IsDir() {
		return nil
	}
	policy, n := t.policy.Load(), 0
	return t.walk(ctx, p, &n, func(found *place, info fs.FileInfo) error {
		if info.Mode()&fs.ModeSymlink != 0 {
			end, err := t.resolve(found.path, true, keep.List)
			if err == nil {
				err = end.err
				end.close()
			}
			if err != nil {
				return keep.Refuse(keep.BadRequest, "a link in the folder leads nowhere, and would be lost: delete it first")
			}
			return nil
		}
		return policy.See(found.path, info.IsDir(), time.Now()).Fault()
	})
}
