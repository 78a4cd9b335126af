package tree

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

var (
	errMixed   = keep.Refuse(keep.AcrossMounts, "not the same rights hold for all that is in the folder, so it can't go into the bin as one: delete what is in it, or delete it for good")
	errNotHere = keep.Refuse(keep.NotFound, "it is not in the bin any more")
)

// inBin is the place of something in the bin of the mount.
func (m *mounted) inBin(id string) place {
	name := store.BinPrefix + id
	return place{m: m, dir: m.folder, name: name, path: m.path([]string{name})}
}

// Discard puts a file or a folder with all that is in it into the bin of its mount, where nobody sees it. note is asked
// first to write down where it was and lies; after its error nothing is done, and it must be taken back after an error of Discard.
func (t *Tree) Discard(at, id string, note func(keep.Binned) error) error {
	info, err := t.Lstat(at)
	if err != nil {
		return err
	}
	action := keep.Deleting
	if info.IsDir() {
		action = keep.RemoveDir
	}
	until := time.Now().Add(t.BinTime())
	said := func(r *keep.AuditRecord) {
		r.Detail += "into the bin until " + until.UTC().Format("2006-01-02 15:04 UTC")
	}
	return t.actNoted(action, at, "", said, func() error {
		done := t.deed(at)
		if info.IsDir() {
			done()
			if done, err = t.alone(at, at); err != nil {
				return err
			}
		}
		defer done()
		return t.discard(at, info.IsDir(), keep.Binned{ID: id, Deleted: time.Now(), Until: until}, note)
	})
}

func (t *Tree) discard(at string, folder bool, b keep.Binned, note func(keep.Binned) error) error {
	right := keep.Delete
	if folder {
		right = keep.Rmdir
	}
	p, err := t.resolve(at, false, right)
	if err != nil {
		return err
	}
	defer p.close()
	if err := cmp.Or(t.may(right, p.path), t.notMount(p.path)); err != nil {
		return err
	}
	if policy := t.policy.Load(); folder {
		if policy.Anchored(p.path) || !policy.Plain(p.path) {
			return errMixed
		}
		if err := t.may(keep.Delete|keep.Rmdir, path.Join(p.path, "x")); err != nil {
			return err
		}
	}
	look := func() (fs.FileInfo, fs.FileInfo, error) {
		info, err := p.dir.Lookup(p.name)
		if err == nil && info.IsDir() != folder {
			err = keep.Refuse(keep.InUse, "something else has the name now: look again")
		}
		return info, nil, err
	}
	info, _, err := look()
	if err != nil {
		return err
	}
	if p.held != "" {
		return errHeld
	}
	if folder {
		if err := t.stays(&p, false); err != nil {
			return err
		}
	}
	if b.Path, b.Folder, b.Store, b.In, b.Was = p.path, folder, p.m.spot.Store, p.m.spot.Path, p.named().Folder().Path; !folder {
		b.Size = info.Size()
	}
	if err := note(b); err != nil {
		return err
	}
	bin := p.m.inBin(b.ID)
	err = t.taking(p.spot(), bin.spot(), p.path, func() error { return t.shift(&p, &bin, look, never) })
	return p.settled(bin.settled(err))
}

// PutBack puts what is in the bin back where it was, under another name in the same folder if one is given.
func (t *Tree) PutBack(b keep.Binned, name string) error {
	to := b.Path
	if name != "" {
		to = path.Join(path.Dir(b.Path), name)
	}
	target := ""
	if to != b.Path {
		target = to
	}
	return t.act(keep.PuttingBack, b.Path, target, func() error {
		var done func()
		if b.Folder {
			var err error
			if done, err = t.alone(to, to); err != nil {
				return err
			}
		} else {
			done = t.deed(to)
		}
		defer done()
		return t.putBack(b, to)
	})
}

func (t *Tree) putBack(b keep.Binned, to string) error {
	right := keep.Upload
	if b.Folder {
		right = keep.Mkdir
	}
	p, err := t.resolve(to, false, right)
	if err != nil {
		return err
	}
	defer p.close()
	policy := t.policy.Load()
	if err := cmp.Or(t.may(right, p.path), t.notMount(p.path), keep.CheckNewName(p.spelling())); err != nil {
		return err
	}
	switch {
	case path.Dir(p.path) != path.Dir(b.Path) || p.m.spot.Store != b.Store || p.m.spot.Path != b.In:
		return keep.Refuse(keep.AcrossMounts, "the folder where it was lies elsewhere now: it can't be put back there")
	case b.Folder && (policy.Anchored(p.path) || !policy.Plain(p.path)):
		return errMixed
	case !b.Folder && !policy.Alike(b.Path, p.path):
		return keep.Refuse(keep.NoRight, "other rights hold under that name: choose one that is like its own")
	case b.Folder:
		if err := t.may(keep.Upload|keep.Mkdir, path.Join(p.path, "x")); err != nil {
			return err
		}
	}
	bin := p.m.inBin(b.ID)
	look := func() (fs.FileInfo, fs.FileInfo, error) {
		info, err := bin.dir.Lookup(bin.name)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil, errNotHere
		}
		if err == nil && info.IsDir() != b.Folder {
			err = errNotHere
		}
		if _, taken := p.dir.Lookup(p.name); err == nil && taken == nil {
			err = keep.Refuse(keep.AlreadyThere, "the name is taken")
		}
		return info, nil, err
	}
	err = t.taking(bin.spot(), p.spot(), p.path, func() error { return t.shift(&bin, &p, look, never) })
	return bin.settled(p.settled(err))
}

func never() bool { return false }

// EmptyBin removes something in a bin for good, with all that is in it; that it isn't there is fine. It needs no account.
// dir is the folder in which it lies.
func EmptyBin(ctx context.Context, ledger *quota.Ledger, dir store.Folder, folder quota.Spot, id string) error {
	return purge(ctx, ledger, dir, folder, store.BinPrefix+id, 0)
}

// purgeAtOnce bounds the names that are held while a folder is removed.
const purgeAtOnce = 10_000

// maxPurged bounds the folders in one another that are removed, each of which is held open.
const maxPurged = 1000

func purge(ctx context.Context, ledger *quota.Ledger, dir store.Folder, in quota.Spot, name string, depth int) error {
	spot := quota.Spot{Store: in.Store, Path: path.Join(in.Path, keep.Spell(name))}
	info, err := dir.Lookup(name)
	if err == nil && info.IsDir() {
		if depth > maxPurged {
			return fmt.Errorf("folders lie more than %d deep in one another", maxPurged)
		}
		var inside store.Folder
		if inside, err = dir.Enter(name); err == nil {
			err = errors.Join(purgeInside(ctx, ledger, inside, spot, depth), inside.Close())
		}
	}
	if err == nil {
		err = ledger.Remove(spot, func() (fs.FileInfo, error) { return dir.Lookup(name) }, func() error { return dir.Remove(name, info.IsDir()) })
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// purgeInside empties a folder, some names at a time.
func purgeInside(ctx context.Context, ledger *quota.Ledger, dir store.Folder, spot quota.Spot, depth int) error {
	for ctx.Err() == nil {
		names, err := someNames(dir)
		if err != nil || len(names) == 0 {
			return err
		}
		for _, name := range names {
			if err := cmp.Or(ctx.Err(), purge(ctx, ledger, dir, spot, name, depth+1)); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

func someNames(dir store.Folder) (names []string, err error) {
	entries, err := dir.Entries()
	if err != nil {
		return nil, err
	}
	defer entries.Close()
	for len(names) < purgeAtOnce {
		found, err := entries.Next(store.LargeRead)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		for _, info := range found {
			names = append(names, info.Name())
		}
	}
	return names, nil
}
