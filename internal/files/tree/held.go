package tree

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Holds knows the uploads that wait for their check. See [Check] of keep: on a mount that has one, an upload lies under a
// hidden name in the folder where it is to appear, and only who uploaded it finds it there.
type Holds interface {
	// None reports whether nothing is held at all.
	None() bool
	// Find gives what an owner has put at a place; folder is that in which it is to appear.
	Find(folder quota.Spot, name, owner string) (id string, held bool)
	// In gives all that an owner has put into a folder: names by id.
	In(folder quota.Spot, owner string) map[string]string
	// Below reports whether anything is held in a folder or below it.
	Below(folder quota.Spot) bool
	// Begin notes an upload before anything of it is there.
	Begin(h keep.Held) error
	// Write begins a change of what is held, and refuses it while that gets its name. done ends the change: came says whether
	// it has come whole and is to be checked; "": nothing of it has changed. With atOnce the change is made in one step: what is
	// there is whole until then.
	Write(id string, atOnce bool) (done func(came keep.HeldState, size int64, hash string) error, err error)
	// Move says that a held upload is to appear elsewhere, in the place of a file that is there with over; do moves its file.
	Move(id string, folder quota.Spot, name, at string, over bool, do func() error) error
	// Drop forgets an upload when do has removed its file.
	Drop(id string, do func() error) error
}

var (
	errHeld     = keep.Refuse(keep.InUse, "the file is still being checked: try again when that is done")
	errHeldIn   = keep.Refuse(keep.InUse, "files in the folder are still being checked: try again when that is done")
	errPiecemal = keep.Refuse(keep.BadRequest, "files are checked here as a whole: send it again from its beginning")
)

// checkAt is the check of new uploads at a path; nil: there is none.
func (t *Tree) checkAt(at string) *keep.Check {
	if t.holds == nil || t.who.Rehearsal {
		return nil
	}
	if m := t.policy.Load().MountOf(at); m != nil {
		return m.Check
	}
	return nil
}

func (t *Tree) owner() string { return keep.HeldBy(t.who.Account, t.who.Pass) }

// folderSpot is the folder of a place.
func (p *place) folderSpot() quota.Spot {
	spot := p.m.under(p.m.rel(p.path))
	return quota.Spot{Store: spot.Store, Path: path.Dir(spot.Path)}
}

// mine leads a place to what the account has held there.
func (t *Tree) mine(p *place) {
	if t.holds == nil || p.name == "." || t.holds.None() {
		return
	}
	if id, held := t.holds.Find(p.folderSpot(), p.spelling(), t.owner()); held {
		p.hold(id)
	}
}

// came is how far a held upload is once a change of it has ended.
func came(whole bool) keep.HeldState {
	if whole {
		return keep.HeldWaiting
	}
	return keep.HeldComing
}

func (p *place) hold(id string) { p.held, p.name = id, store.HeldPrefix+id }

// newHold makes a place one of an upload that is to be held; nothing of that account is held there yet.
func (t *Tree) newHold(p *place, check *keep.Check) error {
	folder := p.folderSpot()
	h := keep.Held{ID: strings.ToLower(rand.Text()[:16]), Account: t.who.Account, Pass: t.who.Pass, Store: folder.Store, Folder: folder.Path, Name: p.spelling(), Path: p.path,
		Over: t.may(keep.Overwrite, p.path) == nil, Check: *check, State: keep.HeldComing, Address: t.who.Address, Protocol: t.who.Protocol, Encrypted: t.who.Encrypted, Session: t.who.Session}
	if check.Refused != "" {
		h.Refused = path.Join(p.m.spot.Path, check.Refused)
	}
	if err := t.holds.Begin(h); err != nil {
		return err
	}
	p.hold(h.ID)
	return nil
}

// openHeld opens a file for writing on a mount with a check.
func (t *Tree) openHeld(p *place, create bool, mode OpenMode, begin func(*place) error, check *keep.Check) (f *File, err error) {
	known := p.held != ""
	if !known && !create && !mode.Truncate {
		p.close()
		return nil, errPiecemal
	}
	f = &File{t: t, mode: mode, created: true, sum: newSum(mode)}
	defer func() {
		if err != nil {
			p.close()
			f = nil
		}
	}()
	if err = begin(p); err != nil {
		return f, err
	}
	if !known {
		if err = t.newHold(p, check); err != nil {
			return f, err
		}
	}
	if f.wrote, err = t.holds.Write(p.held, false); err != nil {
		return f, err
	}
	if known && p.seen != nil {
		f.f, f.held, err = t.openThere(p, mode)
	} else {
		f.f, f.held, err = t.create(p, mode)
		err = p.full(err)
	}
	if err != nil {
		err = errors.Join(err, f.wrote("", 0, ""))
		if !known {
			err = errors.Join(err, t.holds.Drop(p.held, func() error { return nil }))
		}
		return f, err
	}
	if info, err := f.f.Stat(); err == nil {
		t.made.add(p.path, info)
	}
	if p.m.power {
		f.in = p
	} else {
		p.close()
	}
	return f, nil
}

// moveHeld gives a held upload another name, under which it is to appear.
func (t *Tree) moveHeld(src, dst *place, replace bool) error {
	if src.m != dst.m {
		return errHeld
	}
	if dst.held != "" {
		return keep.Refuse(keep.AlreadyThere, "the name is taken by a file that is still being checked")
	}
	if there, err := dst.dir.Lookup(dst.name); err == nil {
		if !replace || there.IsDir() {
			return keep.Refuse(keep.AlreadyThere, "the name is taken")
		}
		if err := t.may(keep.Overwrite, dst.path); err != nil {
			return err
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return t.holds.Move(src.held, dst.folderSpot(), dst.spelling(), dst.path, t.may(keep.Overwrite, dst.path) == nil, func() error {
		if src.folderSpot() == dst.folderSpot() {
			return nil
		}
		to := *dst
		to.hold(src.held)
		look := func() (fs.FileInfo, fs.FileInfo, error) {
			info, err := src.dir.Lookup(src.name)
			return info, nil, err
		}
		err := t.ledger.Rename(quota.Move{From: src.spot(), To: to.spot(), Look: look}, func() error { return src.dir.Rename(src.name, to.dir, to.name, false) })
		return src.settled(to.settled(err))
	})
}

// maxNumbered bounds the names that are tried for a file whose own is taken.
const maxNumbered = 1000

// LetIn gives a held upload its name in a folder, and says which: with over it may take the place of a file, else it gets
// one with a number behind it where its own is taken. It needs no account. numbered makes such a name.
func LetIn(ledger *quota.Ledger, id string, from store.Folder, fromSpot quota.Spot, to store.Folder, toSpot quota.Spot, name string, over bool, numbered func(string, int) string) (as string, replaced bool, err error) {
	hidden := store.HeldPrefix + id
	for n := 1; n < maxNumbered; n++ {
		as = name
		if n > 1 {
			as = numbered(name, n)
		}
		real := keep.Unspell(as)
		var there fs.FileInfo
		look := func() (fs.FileInfo, fs.FileInfo, error) {
			info, err := from.Lookup(hidden)
			if err != nil {
				return nil, nil, err
			}
			if there, err = to.Lookup(real); err != nil {
				there = nil
			} else if !over || !there.Mode().IsRegular() {
				return nil, nil, fs.ErrExist
			}
			return info, there, nil
		}
		err = ledger.Rename(quota.Move{From: quota.Spot{Store: fromSpot.Store, Path: path.Join(fromSpot.Path, hidden)}, To: quota.Spot{Store: toSpot.Store, Path: path.Join(toSpot.Path, as)}, Look: look},
			func() error { return from.Rename(hidden, to, real, there != nil) })
		if !errors.Is(err, fs.ErrExist) {
			if err == nil {
				err = store.Sync(to)
			}
			return as, there != nil, err
		}
	}
	return as, false, err
}

// DropHeld removes a held upload; that it isn't there is fine. It needs no account.
func DropHeld(ledger *quota.Ledger, dir store.Folder, folder quota.Spot, id string) error {
	name := store.HeldPrefix + id
	err := ledger.Remove(quota.Spot{Store: folder.Store, Path: path.Join(folder.Path, name)},
		func() (fs.FileInfo, error) { return dir.Lookup(name) }, func() error { return dir.Remove(name, false) })
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// LookHeld gives the facts of a held upload.
func LookHeld(dir store.Folder, id string) (fs.FileInfo, error) {
	return dir.Lookup(store.HeldPrefix + id)
}

// HeldFile is a held upload that is read.
type HeldFile = store.File

// OpenHeldFile opens a held upload for reading.
func OpenHeldFile(dir store.Folder, id string) (HeldFile, error) {
	return dir.Open(store.HeldPrefix+id, os.O_RDONLY, 0)
}
