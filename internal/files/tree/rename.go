package tree

import (
	"errors"
	"io/fs"

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
		return t.moveHeld(&src, &dst, replace)
	case dst.held != "":
		return errHeld
	case src.m != dst.m && t.checkAt(dst.path) != nil:
		return keep.Refuse(keep.AcrossMounts, "files come into that folder by an upload only, so that they are checked: copy it there")
	case alone && t.holds != nil && t.holds.Below(src.spot()):
		return errHeldIn
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
	inside := func() (store.Folder, error) { return src.dir.Enter(src.name) }
	moved := quota.Move{From: src.spot(), To: dst.spot(), Inside: inside, Look: look}
	err = t.ledger.Rename(moved, func() error { return src.dir.Rename(src.name, dst.dir, dst.name, replaced != nil) })
	return src.settled(dst.settled(err))
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
