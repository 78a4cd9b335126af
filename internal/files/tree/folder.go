package tree

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"sort"
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
	for _, right := range seeFacts {
		if policy.Decide(right, real, now).Allowed {
			return info, asFault(err)
		}
	}
	return nil, seen.Fault()
}

// facts asks the store; real is the path after links where grants differ.
func (t *Tree) facts(at string, follow bool) (info fs.FileInfo, real string, err error) {
	p, err := t.resolve(at, follow)
	if err != nil {
		return nil, at, err
	}
	defer p.close()
	if follow {
		info, err = p.dir.Stat(p.name)
	} else {
		info, err = p.dir.Lstat(p.name)
	}
	if p.name == "." && err == nil {
		info = renamed{info, path.Base(at)}
	}
	return info, p.path, err
}

// renamed hides the name that a mount's folder has on the machine.
type renamed struct {
	fs.FileInfo
	name string
}

func (r renamed) Name() string { return r.name }

// Space is how much there is and is left where a clean path lies.
func (t *Tree) Space(at string) (store.Space, error) {
	if _, err := t.Stat(at); err != nil {
		return store.Space{}, err
	}
	m := t.mountOf(at)
	space, err := store.SpaceOf(m.root)
	for _, use := range t.ledger.Over(m.under(m.rel(at))) {
		bytes, files := keep.Room{Quota: use.Quota, Used: use.Used}.Left()
		if bytes >= 0 && (err != nil || uint64(bytes) < space.FreeBytes) {
			space.Bytes, space.FreeBytes, err = uint64(use.Quota.Bytes), uint64(bytes), nil
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

// listPage bounds how many names are read from the disk at once.
const listPage = 1024

// List gives the entries of a folder, sorted by name, mounts among them. The
// facts of a link are its own.
func (t *Tree) List(at string) ([]fs.FileInfo, error) {
	var entries []fs.FileInfo
	err := t.act(keep.Listing, at, "", func() (err error) {
		entries, err = t.list(at)
		return err
	})
	return entries, err
}

func (t *Tree) list(at string) ([]fs.FileInfo, error) {
	policy := t.policy.Load()
	branches := policy.Branches(at)
	p, err := t.resolve(at, true)
	if err != nil {
		return nil, err
	}
	defer p.close()
	now := time.Now()
	verdict := policy.Decide(keep.List, p.path, now)
	if !verdict.Allowed && len(branches) == 0 {
		return nil, verdict.Fault()
	}
	var entries []fs.FileInfo
	if verdict.Allowed {
		entries, err = readFolder(&p)
		if err != nil && !(errors.Is(err, fs.ErrNotExist) && len(branches) > 0) {
			return nil, err
		}
	}
	entries = slices.DeleteFunc(entries, func(e fs.FileInfo) bool {
		return !policy.See(path.Join(p.path, e.Name()), e.IsDir(), now).Allowed
	})
	if len(branches) == 0 {
		return entries, nil
	}
	mounted := map[string]bool{}
	kept := make([]fs.FileInfo, 0, len(entries)+len(branches))
	for _, name := range branches {
		mounted[name] = true
		info, err := t.Stat(path.Join(at, name))
		if err != nil {
			info = branch{name}
		}
		kept = append(kept, info)
	}
	for _, e := range entries {
		if !mounted[e.Name()] { // a mount hides what is under it
			kept = append(kept, e)
		}
	}
	sort.Slice(kept, func(i, j int) bool { return kept[i].Name() < kept[j].Name() })
	return kept, nil
}

func readFolder(p *place) ([]fs.FileInfo, error) {
	dir, err := p.dir.Open(p.name)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	if err := p.same(dir); err != nil {
		return nil, err
	}
	var entries []fs.FileInfo
	for {
		page, err := dir.Readdir(listPage)
		for _, info := range page {
			if keep.CheckPathName(info.Name()) == nil { // a line break would forge a line of the listing
				entries = append(entries, info)
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].Name() < entries[j].Name() })
	return entries, nil
}

// Mkdir makes a folder.
func (t *Tree) Mkdir(at string) error {
	return t.act(keep.MakeDir, at, "", func() error {
		p, err := t.resolve(at, false)
		if err != nil {
			return err
		}
		defer p.close()
		if err := t.may(keep.Mkdir, p.path); err != nil {
			return err
		}
		if len(t.policy.Load().Branches(at)) > 0 {
			return keep.Refuse(keep.AlreadyThere, "the name is taken")
		}
		return t.ledger.Make(t.spot(&p, at), func() error { return p.dir.Mkdir(p.name, t.umask(at).Masks(0o777)) })
	})
}

// Rmdir removes an empty folder.
func (t *Tree) Rmdir(at string) error {
	return t.act(keep.RemoveDir, at, "", func() error {
		return t.remove(at, keep.Rmdir, func(info fs.FileInfo) error {
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
		return t.remove(at, keep.Delete, func(info fs.FileInfo) error {
			if info.IsDir() {
				return keep.Refuse(keep.IsAFolder, "that is a folder")
			}
			return nil
		})
	})
}

func (t *Tree) remove(at string, right keep.Rights, check func(fs.FileInfo) error) error {
	p, err := t.resolve(at, false)
	if err != nil {
		return err
	}
	defer p.close()
	if err := t.may(right, p.path); err != nil {
		return err
	}
	if err := t.notMount(at); err != nil {
		return err
	}
	look := func() (fs.FileInfo, error) {
		info, err := p.dir.Lstat(p.name)
		if err == nil {
			err = check(info)
		}
		return info, err
	}
	return t.ledger.Remove(t.spot(&p, at), look, func() error { return p.dir.Remove(p.name) })
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

// Rename moves a file or folder to a new path. With replace it takes the place
// of a file that is there, which asks for overwrite; without, a taken name is
// refused.
func (t *Tree) Rename(from, to string, replace bool) error {
	return t.act(keep.Renaming, from, to, func() error { return t.rename(from, to, replace) })
}

func (t *Tree) rename(from, to string, replace bool) error {
	if keep.Covers(from, to) && from != to {
		return keep.Refuse(keep.BadRequest, "a folder can't be moved into itself")
	}
	policy := t.policy.Load()
	for _, end := range []string{from, to} {
		if err := t.notMount(end); err != nil {
			return err
		}
		if policy.Anchored(end) {
			return keep.Refuse(keep.MountPoint, "the account's grants name that folder or one in it, so it stays where it is")
		}
	}
	src, err := t.resolve(from, false)
	if err != nil {
		return err
	}
	defer src.close()
	dst, err := t.resolve(to, false)
	if err != nil {
		return err
	}
	defer dst.close()
	for _, end := range []string{src.path, dst.path} {
		if err := t.may(keep.Rename, end); err != nil {
			return err
		}
	}
	look := func() (source, replaced fs.FileInfo, err error) {
		if replaced, err = dst.dir.Lstat(dst.name); err == nil {
			if !replace || replaced.IsDir() {
				return nil, nil, keep.Refuse(keep.AlreadyThere, "the name is taken")
			}
			if err := t.may(keep.Overwrite, dst.path); err != nil {
				return nil, nil, err
			}
		} else {
			replaced = nil
		}
		source, err = src.dir.Lstat(src.name)
		return source, replaced, err
	}
	m := t.mountOf(from)
	moved := quota.Move{From: t.spot(&src, from), To: t.spot(&dst, to), Root: m.root, Name: within(m, &src, from), Look: look}
	return t.ledger.Rename(moved, func() error { return t.move(&src, &dst, from, to) })
}

// move renames inside the folder that holds both ends where there is one, else
// inside the mount's root or from one to another.
func (t *Tree) move(src, dst *place, from, to string) error {
	if src.walked && path.Dir(src.path) == path.Dir(dst.path) {
		return src.dir.Rename(src.name, dst.name)
	}
	m, into := t.mountOf(from), t.mountOf(to)
	if m != into {
		return store.Move(m.root, within(m, src, from), into.root, within(into, dst, to))
	}
	return m.root.Rename(within(m, src, from), within(m, dst, to))
}

// within is a place's path relative to its mount. The walk has resolved it
// where that matters.
func within(m *mounted, p *place, at string) string {
	if p.walked {
		at = p.path
	}
	return m.rel(at)
}
