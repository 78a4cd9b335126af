package tree

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"os"
	"path"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Part makes an upload appear under its name only when it is whole. Until then it lies in the same folder,
// and so counts in the same quotas, under a name that nobody can see or say.
type Part struct {
	ID   string // names it; letters and digits
	Size int64  // of the whole file, bytes; -1: it is whole when it is closed
	Hold bool   // it stays a part even when all of it is there, until [Tree.Finish]
	Hash string // SHA-256 that the whole must have, in hexadecimal; "": any
	Sum  []byte // state of the hash of what came before; nil: of nothing
	// Still is asked for what the whole is to take the place of, nil for nothing, when it does; nil: it always may.
	Still func(there fs.FileInfo) error
}

func (p Part) name() string { return store.PartPrefix + p.ID }

// part is an open one.
type part struct {
	Part
	place place
	power bool
	to    string // its path in the tree
	over  bool   // a file that is there by then may be replaced
}

var (
	errPartGone = keep.Refuse(keep.NotFound, "what had come of this upload is not there any more: begin it anew")
	errPartElse = keep.Refuse(keep.BadRequest, "another part of the file is to come next: ask where the upload stands")
	errWrong    = keep.Refuse(keep.BadHash, "what came is not what was sent: its SHA-256 is another one. Send it again")
)

// beside is the place of a part of the file whose place this is.
func (p *place) beside(one Part) place {
	beside := *p
	beside.name, beside.path = one.name(), p.path[:len(p.path)-len(p.spelling())]+one.name()
	return beside
}

// openPart opens a part for its next piece; the place is that of the file, on which was decided.
func (t *Tree) openPart(p *place, mode OpenMode, begin func(*place) error) (_ *File, err error) {
	at := p.beside(*mode.Part)
	f := &File{t: t, mode: mode, created: true, part: &part{Part: *mode.Part, place: at, power: p.m.power, to: p.path, over: !mode.Exclusive}}
	defer func() {
		if err != nil {
			p.close()
		}
	}()
	info, err := at.dir.Lookup(at.name)
	fresh := errors.Is(err, fs.ErrNotExist)
	switch {
	case fresh && mode.Offset > 0:
		return nil, errPartGone
	case fresh:
	case err != nil:
		return nil, err
	case info.Size() != mode.Offset:
		return nil, errPartElse
	}
	if err := begin(p); err != nil {
		return nil, err
	}
	// What it replaces is there until it is whole.
	if err := t.ledger.Fits(at.spot(), max(0, mode.Part.Size), mode.Offset); err != nil {
		return nil, err
	}
	flag, of := os.O_WRONLY, sha256.New()
	if fresh {
		flag |= os.O_CREATE | os.O_EXCL
	}
	if mode.Part.Sum == nil || of.(encoding.BinaryUnmarshaler).UnmarshalBinary(mode.Part.Sum) == nil {
		if mode.Offset == 0 || mode.Part.Sum != nil {
			f.sum = &sum{of: of, bytes: mode.Offset}
		}
	}
	if mode.Part.Hash == "" && !mode.Part.Hold && !p.m.hashes {
		f.sum = nil
	}
	f.held, err = t.ledger.Open(at.spot(), fresh, func() (func() (fs.FileInfo, error), error) {
		if f.f, err = at.dir.Open(at.name, flag, t.fileMode(p.path, mode.Mode)); err != nil {
			return nil, err
		}
		return f.f.Stat, nil
	})
	return f, at.full(err)
}

// Rest is the state of the hash of a part of so many bytes once the file is closed; nil when it is not known.
func (f *File) Rest(size int64) []byte {
	if f.sum == nil || f.sum.of == nil || f.sum.bytes != size {
		return nil
	}
	state, err := f.sum.of.(encoding.BinaryMarshaler).MarshalBinary()
	if err != nil {
		return nil
	}
	return state
}

// settlePart is settle for a piece of an upload, however it ended: what came is kept. When the file is whole it gets
// its name. note is for the record of a piece that doesn't end it, hash the SHA-256 of the whole.
func (f *File) settlePart(why error) (note, hash string, err error) {
	defer f.part.place.close()
	err = store.End(f.f, true, f.part.power)
	stat := func() (fs.FileInfo, error) { return f.part.place.dir.Lookup(f.part.place.name) }
	f.held.Close(stat)
	if why != nil || err != nil {
		return "", "", cmp.Or(why, err)
	}
	info, err := stat()
	if err != nil {
		return "", "", err
	}
	size := f.part.Size
	if size < 0 {
		size = info.Size()
	}
	switch {
	case info.Size() < size:
		return fmt.Sprintf("%d of %d bytes have come", info.Size(), size), "", nil
	case f.part.Hold:
		return "all has come; it is not under its name yet", "", nil
	}
	known := f.sum.whole(size)
	f.replaces, f.waits, err = f.t.appear(f.part.to, f.part.Part, f.part.over, info, &known)
	return "", known, err
}

// Finish gives an upload its name that has come whole, if its hash is right; with replace it takes the place of a file.
func (t *Tree) Finish(at string, one Part, replace bool) error {
	known, replaced, waits := "", false, false
	note := func(r *keep.AuditRecord) {
		r.Offset, r.Hash, r.Replaced, r.Held = one.Size, known, replaced, waits // all of it had come before
	}
	return t.actNoted(keep.Uploading, at, "", note, func() (err error) {
		if of := sha256.New(); one.Sum != nil && of.(encoding.BinaryUnmarshaler).UnmarshalBinary(one.Sum) == nil {
			known = hex.EncodeToString(of.Sum(nil))
		}
		replaced, waits, err = t.appear(at, one, replace, nil, &known)
		return err
	})
}

// appear gives a part its name; replaced says that a file had it, waits that it is held until it is checked. known is its hash, "" where that is not known; it is
// filled in where it had to be.
func (t *Tree) appear(at string, one Part, replace bool, mine fs.FileInfo, known *string) (replaced, waits bool, err error) {
	if one.Hash != "" && *known == "" {
		if err := t.hashPart(at, one, known); err != nil {
			return false, false, err
		}
	}
	if one.Hash != "" && one.Hash != *known {
		return false, false, errWrong
	}
	mode := OpenMode{Write: true, Create: true, Exclusive: !replace, Truncate: true, Total: max(0, one.Size), Part: &one}
	for n := 0; n < maxRenames && (n == 0 || replace && errors.Is(err, fs.ErrExist)); n++ {
		replaced, waits, err = t.appearOnce(at, one, mode, replace, mine, *known)
	}
	return replaced, waits, err
}

func (t *Tree) appearOnce(at string, one Part, mode OpenMode, replace bool, mine fs.FileInfo, hash string) (was, waits bool, err error) {
	defer t.deed(at)()
	p, _, err := t.decide(at, mode) // by what is there and may be now
	if err != nil {
		return false, false, err
	}
	defer p.close()
	from := p.beside(one)
	var wrote func(keep.HeldState, int64, string) error
	if check := t.checkAt(p.path); check != nil || p.held != "" {
		fresh := p.held == ""
		if fresh {
			if err := t.newHold(&p, check); err != nil {
				return false, false, err
			}
		}
		if wrote, err = t.holds.Write(p.held, true); err != nil {
			return false, false, err
		}
		defer func() {
			size := one.Size
			if info, looked := p.dir.Lookup(p.name); err == nil && looked == nil {
				size = info.Size()
			}
			how := keep.HeldWaiting
			if err != nil {
				how = ""
			}
			unwritten := wrote(how, size, hash)
			if err != nil && fresh {
				unwritten = errors.Join(unwritten, t.holds.Drop(p.held, func() error { return nil }))
			}
			was, waits, err = false, err == nil, errors.Join(err, unwritten)
		}()
	}
	var replaced fs.FileInfo
	asked := one.Still == nil
	still := func(there fs.FileInfo) error { // with the first look, which is the one that decides
		if asked {
			return nil
		}
		asked = true
		return one.Still(there)
	}
	look := func() (fs.FileInfo, fs.FileInfo, error) {
		info, err := from.dir.Lookup(from.name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil, nil, errPartGone
		case err != nil:
			return nil, nil, err
		case mine != nil && !store.Same(info, mine) || one.Size >= 0 && info.Size() != one.Size:
			return nil, nil, errPartElse
		}
		if replaced, err = p.dir.Lookup(p.name); err != nil {
			replaced = nil
			return info, nil, still(nil)
		}
		if !replace {
			return nil, nil, fs.ErrExist
		}
		if err := t.may(keep.Overwrite, p.path); err != nil && !t.mayFill(&p) {
			return nil, nil, err
		}
		return info, replaced, cmp.Or(regular(replaced), still(replaced))
	}
	err = t.ledger.Rename(quota.Move{From: from.spot(), To: p.spot(), Look: look}, func() error { return from.dir.Rename(from.name, p.dir, p.name, replaced != nil) })
	if err == nil {
		if info, err := p.dir.Lookup(p.name); err == nil {
			t.made.add(p.path, info)
		}
	}
	return replaced != nil, false, p.settled(err)
}

// hashPart reads what has come of an upload once more.
func (t *Tree) hashPart(at string, one Part, known *string) error {
	f, err := func() (store.File, error) {
		defer t.deed(at)()
		p, err := t.resolve(at, true, keep.Upload)
		if err != nil {
			return nil, err
		}
		defer p.close()
		beside := p.beside(one)
		return beside.dir.Open(beside.name, os.O_RDONLY, 0)
	}()
	if errors.Is(err, fs.ErrNotExist) {
		return errPartGone
	}
	if err != nil {
		return err
	}
	defer f.Close()
	return Digest{New: func() hash.Hash { return sha256.New() }, Stop: context.Background(), Sum: func(sum []byte) error {
		*known = hex.EncodeToString(sum)
		return nil
	}}.of(t, f)
}

// PartSize is how much of an upload has come, bytes: 0 when it has not begun. Of one that was about to get its name, named says that
// it has it: its part is gone, and a file of its size is there.
func (t *Tree) PartSize(at string, one Part, ending bool) (size int64, named bool, err error) {
	defer t.deed(at)()
	p, err := t.resolve(at, true, keep.Upload)
	if err != nil {
		return 0, false, asFault(err)
	}
	defer p.close()
	beside := p.beside(one)
	info, err := beside.dir.Lookup(beside.name)
	if errors.Is(err, fs.ErrNotExist) {
		there, looked := p.dir.Lookup(p.name)
		if named = ending && looked == nil && there.Mode().IsRegular() && there.Size() == one.Size; named {
			return one.Size, true, nil
		}
		return 0, false, nil
	}
	if err != nil {
		return 0, false, asFault(err)
	}
	return info.Size(), false, nil
}

// DropPart removes what has come of an upload from the folder in which the file is to appear; that it isn't
// there is fine. It needs no account.
func DropPart(ledger *quota.Ledger, dir store.Folder, folder quota.Spot, id string) error {
	name := Part{ID: id}.name()
	err := ledger.Remove(quota.Spot{Store: folder.Store, Path: path.Join(folder.Path, name)},
		func() (fs.FileInfo, error) { return dir.Lookup(name) }, func() error { return dir.Remove(name, false) })
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
