package tree

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Rename moves a file or folder to a new path. With replace it takes the place
// of a file that is there, which asks for overwrite; without, a taken name is
// refused.
func (t *Tree) Rename(from, to string, replace bool) error {
	return t.act(keep.Renaming, from, to, func() error { return t.rename(from, to, replace) })
}

// errFolder says that a folder is to be moved, which must be done alone.
var errFolder = errors.New("a folder is to be moved")

// maxRenames bounds how often a move is tried again because somebody else was quicker.
const maxRenames = 20

func (t *Tree) rename(from, to string, replace bool) error {
	err := errFolder
	for n := 0; n < maxRenames && (n == 0 || replace && errors.Is(err, fs.ErrExist)); n++ {
		err = t.renameOnce(from, to, replace, false)
		if err == errFolder {
			done, busy := t.alone(from, to)
			if busy != nil {
				return busy
			}
			err = t.renameOnce(from, to, replace, true)
			done()
		}
	}
	return err
}

// renameOnce makes one attempt; alone says that nothing else is done meanwhile.
func (t *Tree) renameOnce(from, to string, replace, alone bool) error {
	if !alone {
		defer t.deeds(from, to)()
	}
	src, err := t.resolve(from, false, keep.Rename)
	if err != nil {
		return err
	}
	defer src.close()
	dst, err := t.resolve(to, false, keep.Rename)
	if err != nil {
		return err
	}
	defer dst.close()
	if err := t.mayMove(&src, &dst); err != nil {
		return err
	}
	switch {
	case src.held != "":
		t.fresh.over(src.named())
		return t.moveHeld(&src, &dst, replace)
	case dst.held != "":
		return errHeld
	case src.m != dst.m && t.checkAt(dst.path) != nil:
		return keep.Refuse(keep.AcrossMounts, "files come into that folder by an upload only, so that they are checked: copy it there")
	case alone:
		if err := cmp.Or(t.stays(&src, false), t.mayMoveInside(&src, &dst)); err != nil {
			return err
		}
	}
	var replaced fs.FileInfo
	look := func() (source, _ fs.FileInfo, err error) {
		if replaced, err = dst.dir.Lookup(dst.name); err == nil {
			if !replace || replaced.IsDir() {
				return nil, nil, keep.Refuse(keep.AlreadyThere, "the name is taken")
			}
			if err := t.may(keep.Overwrite, dst.path); err != nil {
				return nil, nil, err
			}
		} else {
			replaced = nil
		}
		source, err = src.dir.Lookup(src.name)
		if err == nil && source.IsDir() && !alone {
			err = errFolder
		}
		return source, replaced, err
	}
	move := func() error { return t.shift(&src, &dst, look, func() bool { return replaced != nil }) }
	if src.spot() == dst.spot() {
		return src.settled(move()) // nothing goes anywhere
	}
	stays := false
	err = t.taking(src.spot(), dst.spot(), dst.path, func() error {
		err := move()
		if source, looked := src.dir.Lookup(src.name); err == nil && looked == nil && replaced != nil && store.Same(source, replaced) {
			stays, err = true, errTwoNames
		}
		return err
	})
	if stays {
		err = nil
	}
	return src.settled(dst.settled(err))
}

// errTwoNames says that both ends were names of one file, and both are still there (POSIX, rename).
var errTwoNames = errors.New("both are names of one file")

// shift gives what lies at one place the name of another, with what that takes of quotas.
func (t *Tree) shift(src, dst *place, look func() (source, replaced fs.FileInfo, err error), replace func() bool) error {
	t.fresh.over(src.named())
	t.fresh.over(dst.named())
	inside := func() (store.Folder, error) { return src.dir.Enter(src.name) }
	return t.ledger.Rename(quota.Move{From: src.spot(), To: dst.spot(), Inside: inside, Look: look}, func() error {
		return src.dir.Rename(src.name, dst.dir, dst.name, replace())
	})
}

// shiftBack puts back what was set aside, whatever the quotas say: it was there.
func (t *Tree) shiftBack(aside, p *place) error {
	inside := func() (store.Folder, error) { return aside.dir.Enter(aside.name) }
	return t.ledger.Rename(quota.Move{Back: true, From: aside.spot(), To: p.spot(), Inside: inside, Look: look(aside, p)}, func() error {
		return aside.dir.Rename(aside.name, p.dir, p.name, false)
	})
}

// stays says why what lies at a place must stay there with all that is in it, or with gone, why it can't go for good.
func (t *Tree) stays(p *place, gone bool) error {
	if t.holds != nil && t.holds.Below(p.spot()) {
		return errHeldIn
	}
	return t.hangs.Stays(p.spot(), gone)
}

// mayMoveInside decides on each thing in a folder that is to move, where not one decision holds for all of them.
func (t *Tree) mayMoveInside(src, dst *place) error {
	policy := t.policy.Load()
	if policy.Plain(src.path) && policy.Plain(dst.path) {
		return nil
	}
	info, err := src.dir.Lookup(src.name)
	if err != nil || !info.IsDir() {
		return err
	}
	n := 0
	return t.walk(context.Background(), src, &n, func(found *place, info fs.FileInfo) error {
		to := path.Join(dst.path, strings.TrimPrefix(found.path, src.path))
		if err := cmp.Or(t.may(keep.Rename, found.path), t.may(keep.Rename, to)); err != nil {
			return keep.Refuse(keep.NoRight, "not all that is in the folder may be moved there: move what may, part by part")
		}
		return nil
	})
}

// mayMove decides on a move from one place to another.
func (t *Tree) mayMove(src, dst *place) error {
	policy := t.policy.Load()
	for _, end := range []*place{src, dst} {
		if err := t.may(keep.Rename, end.path); err != nil {
			return err
		}
		if err := t.notMount(end.path); err != nil {
			return err
		}
		if policy.Anchored(end.path) {
			return keep.Refuse(keep.MountPoint, "the account's grants name that folder or one in it, so it stays where it is")
		}
	}
	if keep.Covers(src.path, dst.path) && src.path != dst.path {
		return keep.Refuse(keep.BadRequest, "a folder can't be moved into itself")
	}
	return keep.CheckNewName(dst.spelling())
}
