package tree

import (
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// place is where a path of the tree is: a name in an open folder. Rights are decided
// on its path, and what is done is done to its name: nothing that others do to the
// paths that led here can come between.
type place struct {
	m    *mounted
	dir  store.Folder
	name string // as it lies on the disk; "." for the mount itself
	path string // in the tree, after symbolic links

	seen  fs.FileInfo // what is at name, no link; where links were followed only
	err   error       // why seen is nil
	owned bool        // dir was opened for it
	held  string      // the held upload of the account that is meant; "": none is
}

func (p *place) close() {
	if p.owned {
		p.dir.Close()
	}
}

// spot is the place as the ledger knows it.
func (p *place) spot() quota.Spot {
	if p.held != "" {
		folder := p.folderSpot()
		return quota.Spot{Store: folder.Store, Path: path.Join(folder.Path, p.name)}
	}
	return p.named()
}

// named is the place by its name in the tree: of a held upload, the one that it is to have.
func (p *place) named() quota.Spot { return p.m.under(p.m.rel(p.path)) }

// spelling is the last part of its path.
func (p *place) spelling() string { return path.Base(p.path) }

// links are the abilities of the folder that not every store has.
func (p *place) links() (store.Linker, error) {
	if l, can := p.dir.(store.Linker); can {
		return l, nil
	}
	return nil, keep.Refuse(keep.BadRequest, "there are no links in this store")
}

// maxSteps bounds the links that one path puts up with, as the kernel bounds them
// (ELOOP), and how often a path is looked at again when something was swapped.
const maxSteps = 40

var (
	errOutside = keep.Refuse(keep.Outside, "the path leads out of the tree")
	errMark    = keep.Refuse(keep.NoRight, "that name belongs to the service")
	errMaze    = keep.Refuse(keep.Outside, "too many links follow one another")
)

// resolve finds the place of a clean path for somebody who wants a right there. With
// follow, a symbolic link at its end is resolved too, and what is there is looked at.
//
// The kernel crosses the folders in one call as long as it meets no link. A link is
// read, turned into the path of the tree that it stands for, and that path is resolved
// from its beginning: so a place's path is the one that its rights are decided on. Nobody
// learns what lies in a folder in which they have no right at all.
func (t *Tree) resolve(at string, follow bool, right keep.Rights) (place, error) {
	policy := t.policy.Load()
	for range maxSteps {
		p, onward, err := t.reach(policy, at, follow)
		if err != nil {
			return place{}, veiled(policy, err, right, at)
		}
		if onward == "" {
			return p, nil
		}
		at = onward
	}
	return place{}, veiled(policy, errMaze, right, at)
}

// errHidden says that a folder is in the way in which the account has no right.
var errHidden = errors.New("no right on the way")

// veiled is what somebody may hear of an error on the way to a path: the refusal of
// the right, if it is refused there, whatever else is wrong.
func veiled(policy *keep.Policy, err error, right keep.Rights, at string) error {
	if fault := policy.Decide(right, at, time.Now()).Fault(); fault != nil {
		return fault
	}
	if err == errHidden {
		return fs.ErrNotExist
	}
	return err
}

// reach makes one attempt. With a link in the way, onward is the path to go on with.
func (t *Tree) reach(policy *keep.Policy, at string, follow bool) (p place, onward string, err error) {
	m := t.mountOf(at)
	p = place{m: m, dir: m.folder, name: ".", path: at}
	rel := m.rel(at)
	if rel == "" {
		if follow {
			p.seen, p.err = p.dir.Lookup(".")
		}
		return p, "", nil
	}
	if m.spot.Path == "." && reserved(rel) || hiddenOnTheWay(rel) {
		return p, "", errMark
	}
	folder, name := path.Split(m.real(rel))
	if folder != "" {
		folder = strings.TrimSuffix(folder, "/")
		if !policy.Any(path.Dir(at)) {
			return p, "", errHidden
		}
		dir, err := m.folder.Cross(keep.Unspell(folder))
		if errors.Is(err, store.ErrLink) {
			onward, err = m.aroundLink(policy, strings.Split(rel, "/"))
			return p, onward, err
		}
		if err != nil {
			return p, "", err
		}
		p.dir, p.owned = dir, true
	}
	p.name = keep.Unspell(name)
	t.mine(&p)
	if !follow {
		return p, "", nil
	}
	p.seen, p.err = p.dir.Lookup(p.name)
	if p.err == nil && p.seen.Mode()&fs.ModeSymlink != 0 {
		defer p.close()
		if !policy.Any(path.Dir(at)) {
			return p, "", errHidden
		}
		onward, err = m.linkTarget(p.dir, strings.Split(rel, "/"), strings.Count(rel, "/"))
		return p, onward, err
	}
	return p, "", nil
}

// reserved reports whether a path from a store's own folder on belongs to the service.
func reserved(rel string) bool {
	first, _, _ := strings.Cut(rel, "/")
	return store.Reserved(first)
}

// hiddenOnTheWay reports whether a path names what is hidden from all accounts.
func hiddenOnTheWay(rel string) bool {
	for at := 0; ; {
		if store.Hidden(rel[at:]) {
			return true
		}
		slash := strings.IndexByte(rel[at:], '/')
		if slash < 0 {
			return false
		}
		at += slash + 1
	}
}

// aroundLink goes down a path folder by folder to the first link in it, and gives the path
// that results.
func (m *mounted) aroundLink(policy *keep.Policy, parts []string) (string, error) {
	dir, owned := m.folder, false
	defer func() {
		if owned {
			dir.Close()
		}
	}()
	for i, part := range parts[:len(parts)-1] {
		if i > 0 && !policy.Any(m.path(parts[:i])) {
			return "", errHidden
		}
		if way := strings.Join(parts[:i+1], "/"); len(m.unseen) > 0 {
			part = path.Base(m.real(way))
		}
		next, err := dir.Enter(keep.Unspell(part))
		if errors.Is(err, store.ErrLink) {
			return m.linkTarget(dir, parts, i)
		}
		if err != nil {
			return "", err
		}
		if owned {
			dir.Close()
		}
		dir, owned = next, true
	}
	return m.path(parts), nil // it is gone again
}

// path is a path of the tree from the parts of one in the mount.
func (m *mounted) path(parts []string) string { return path.Join(m.at, strings.Join(parts, "/")) }

// linkTarget is the path that results from the link at parts[i], which lies in dir.
func (m *mounted) linkTarget(dir store.Folder, parts []string, i int) (string, error) {
	linker, can := dir.(store.Linker)
	if !can {
		return "", errOutside
	}
	text, err := linker.Readlink(keep.Unspell(parts[i]))
	if errors.Is(err, fs.ErrInvalid) || errors.Is(err, fs.ErrNotExist) {
		return m.path(parts), nil // swapped meanwhile: look again
	}
	if err != nil {
		return "", err
	}
	target := keep.Spell(text)
	if path.IsAbs(target) {
		return "", errOutside
	}
	joined := path.Join(strings.Join(parts[:i], "/"), target, strings.Join(parts[i+1:], "/"))
	if joined == ".." || strings.HasPrefix(joined, "../") {
		return "", errOutside
	}
	return path.Join(m.at, joined), nil
}

// mountOf finds the mount that holds a path. There is always one: every account
// has a mount at "/".
func (t *Tree) mountOf(at string) *mounted {
	for _, m := range t.mounts { // deepest first
		if keep.Covers(m.at, at) {
			return m
		}
	}
	return t.mounts[len(t.mounts)-1]
}

// rel is a path of the tree relative to the mount that holds it, "" for the mount.
func (m *mounted) rel(at string) string {
	if m.at == "/" {
		return at[1:]
	}
	return strings.TrimPrefix(at[len(m.at):], "/")
}

// under is a path relative to the mount as the ledger knows it.
func (m *mounted) under(rel string) quota.Spot {
	return quota.Spot{Store: m.spot.Store, Path: path.Join(m.spot.Path, m.real(rel))}
}

// real is a path relative to the mount as it lies in the store.
func (m *mounted) real(rel string) string {
	for shown, name := range m.unseen {
		if rel == shown || strings.HasPrefix(rel, shown+"/") {
			return path.Join(path.Dir(shown), name) + rel[len(shown):]
		}
	}
	return rel
}

// unseen gives a tree of the same session in which a path leads to what lies under a hidden name in the same folder: so that
// it is decided on, and recorded, as what has the path.
func (t *Tree) unseen(p *place, hidden, remark string) *Tree {
	seeing := *t
	seeing.mounts, seeing.remark = slices.Clone(t.mounts), remark
	for i, m := range t.mounts {
		if m.at == p.m.at {
			other := *m
			other.unseen = maps.Clone(m.unseen)
			if other.unseen == nil {
				other.unseen = map[string]string{}
			}
			other.unseen[m.rel(p.path)] = hidden
			seeing.mounts[i] = &other
		}
	}
	return &seeing
}
