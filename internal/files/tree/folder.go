package tree

import (
	"cmp"
	"errors"
	"io/fs"
	"path"
	"syscall"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// branch is a folder that exists only because something is mounted at or below it.
type branch struct{ name string }

func (b branch) Name() string       { return b.name }
func (b branch) Size() int64        { return 0 }
func (b branch) Mode() fs.FileMode  { return fs.ModeDir | 0o555 }
func (b branch) ModTime() time.Time { return time.Unix(0, 0) }
func (b branch) IsDir() bool        { return true }
func (b branch) Sys() any           { return nil }

// seeFacts are the rights of which one, besides list, is enough to see the facts
// of a file.
var seeFacts = []keep.Rights{keep.Download, keep.Overwrite, keep.Touch}

// Stat gives the facts of what a clean path leads to, following links.
func (t *Tree) Stat(at string) (fs.FileInfo, error) { return t.stat(at, true) }

// Lstat is Stat without following a link at the end.
func (t *Tree) Lstat(at string) (fs.FileInfo, error) { return t.stat(at, false) }

// stat is not recorded: it moves nothing, and clients ask without end.
func (t *Tree) stat(at string, follow bool) (fs.FileInfo, error) {
	policy := t.policy.Load()
	info, real, err := t.facts(at, follow)
	if errors.Is(err, fs.ErrNotExist) && len(policy.Branches(at)) > 0 {
		return branch{path.Base(at)}, nil
	}
	if err == nil && info.IsDir() && policy.Any(real) {
		return info, nil
	}
	now := time.Now()
	seen := policy.See(real, err == nil && info.IsDir(), now)
	if seen.Allowed {
		return info, asFault(err)
	}
	if err == nil && t.made.is(real, unnamed(info)) {
		return info, nil
	}
	for _, right := range seeFacts {
		if policy.Decide(right, real, now).Allowed {
			return info, asFault(err)
		}
	}
	return nil, seen.Fault()
}

// facts asks the store; real is the path after links.
func (t *Tree) facts(at string, follow bool) (info fs.FileInfo, real string, err error) {
	defer t.deed(at)()
	p, err := t.resolve(at, follow, keep.List)
	if err != nil {
		return nil, at, err
	}
	defer p.close()
	if info, err = p.seen, p.err; !follow {
		info, err = p.dir.Lookup(p.name)
	}
	if err == nil {
		info = renamed{info, path.Base(at)}
	}
	return info, p.path, err
}

// renamed gives facts the name that they were asked for: not a mount's folder's, not
// that of what a link leads to.
type renamed struct {
	fs.FileInfo
	name string
}

func (r renamed) Name() string { return r.name }

// unnamed takes another name off again.
func unnamed(info fs.FileInfo) fs.FileInfo {
	if r, is := info.(renamed); is {
		return r.FileInfo
	}
	return info
}

// Space is how much there is and is left where a clean path lies.
func (t *Tree) Space(at string) (store.Space, error) {
	if _, err := t.Stat(at); err != nil {
		return store.Space{}, err
	}
	m := t.mountOf(at)
	space, err := store.SpaceOf(m.folder)
	for _, use := range t.ledger.Over(m.under(m.rel(at))) {
		bytes, files := keep.Room{Quota: use.Quota, Used: use.Used}.Left()
		if bytes >= 0 && (err != nil || uint64(bytes) < space.FreeBytes) {
			space.Bytes, space.FreeBytes, space.Unused, err = uint64(use.Quota.Bytes), uint64(bytes), uint64(bytes), nil
		}
		if files >= 0 && uint64(files) < space.FreeFiles {
			space.Files, space.FreeFiles = uint64(use.Quota.Files), uint64(files)
		}
	}
	return space, asFault(err)
}

// MayEnter reports whether a clean path is a folder that the account may make
// its current one.
func (t *Tree) MayEnter(at string) error {
	info, err := t.Stat(at)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return keep.Refuse(keep.NotAFolder, "that is not a folder")
	}
	return nil
}

// Mkdir makes a folder. Its mode is what the client asked for, or all that may be if it
// did not ask, less the umask.
func (t *Tree) Mkdir(at string, mode *fs.FileMode) error {
	return t.act(keep.MakeDir, at, "", func() error {
		defer t.deed(at)()
		p, err := t.resolve(at, false, keep.Mkdir)
		if err != nil {
			return err
		}
		defer p.close()
		if err := t.may(keep.Mkdir, p.path); err != nil {
			return err
		}
		if len(t.policy.Load().Branches(p.path)) > 0 {
			return keep.Refuse(keep.AlreadyThere, "the name is taken")
		}
		if err := keep.CheckNewName(p.spelling()); err != nil {
			return err
		}
		if p.name == "." {
			return keep.Refuse(keep.AlreadyThere, "the name is taken")
		}
		asked := fs.FileMode(0o777)
		if mode != nil {
			asked = *mode
		}
		return p.settled(t.ledger.Make(p.spot(), func() error { return p.dir.Mkdir(p.name, t.umask(p.path).Masks(asked)) }))
	})
}

// Rmdir removes an empty folder.
func (t *Tree) Rmdir(at string) error {
	return t.act(keep.RemoveDir, at, "", func() error {
		return t.remove(at, keep.Rmdir, true, func(info fs.FileInfo) error {
			if !info.IsDir() {
				return keep.Refuse(keep.NotAFolder, "that is not a folder")
			}
			return nil
		})
	})
}

// Remove removes a file or a link.
func (t *Tree) Remove(at string) error {
	return t.act(keep.Deleting, at, "", func() error {
		return t.remove(at, keep.Delete, false, func(info fs.FileInfo) error {
			if info.IsDir() {
				return keep.Refuse(keep.IsAFolder, "that is a folder")
			}
			return nil
		})
	})
}

func (t *Tree) remove(at string, right keep.Rights, folder bool, check func(fs.FileInfo) error) error {
	defer t.deed(at)()
	p, err := t.resolve(at, false, right)
	if err != nil {
		return err
	}
	defer p.close()
	if err := t.may(right, p.path); err != nil {
		return err
	}
	if err := t.notMount(p.path); err != nil {
		return err
	}
	if folder {
		if err := t.hangs.Stays(p.spot(), false); err != nil {
			return err
		}
	}
	t.fresh.over(p.named())
	look := func() (fs.FileInfo, error) {
		info, err := p.dir.Lookup(p.name)
		if err == nil {
			err = check(info)
		}
		return info, err
	}
	remove := func() error {
		return t.ledger.Remove(p.spot(), look, func() error { return p.dir.Remove(p.name, folder) })
	}
	if p.held != "" {
		return p.settled(t.holds.Drop(p.held, remove))
	}
	err = t.taking(p.spot(), quota.Spot{}, p.path, remove)
	if errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, fs.ErrExist) { // it may be for what nobody sees
		err = cmp.Or(t.stays(&p, true), err)
	}
	return p.settled(err)
}

// notMount refuses to touch a folder that is a mount or holds one.
func (t *Tree) notMount(at string) error {
	for _, m := range t.mounts {
		if keep.Covers(at, m.at) {
			return keep.Refuse(keep.MountPoint, "something is mounted there; only an administrator can change that")
		}
	}
	return nil
}
