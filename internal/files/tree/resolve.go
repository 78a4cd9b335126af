package tree

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
)

// place is where a path of the tree lives: a name to be used on an opened
// folder, never a path of the machine.
type place struct {
	dir    *os.Root
	name   string      // relative to dir; "." for the mount itself
	path   string      // in the tree, after symbolic links where grants differ
	seen   fs.FileInfo // what the careful walk saw at name; nil elsewhere and when nothing was there
	walked bool
	owned  bool // dir was opened by the walk
}

func (p *place) close() {
	if p.owned {
		p.dir.Close()
	}
}

// resolve finds the place of a clean path. With follow, a symbolic link at its
// end is resolved too.
//
// Where the same grants decide for a whole mount and no quota begins inside it, the kernel resolves links and the
// root keeps them inside the mount. Where grants differ inside a mount, a link
// could lead from one grant's ground to another's; there each folder is opened
// in turn, each link is turned into the path it stands for, and rights are
// decided on that path.
func (t *Tree) resolve(at string, follow bool) (place, error) {
	m := t.mountOf(at)
	rel := m.rel(at)
	if rel == "" {
		return place{dir: m.root, name: ".", path: at}, nil
	}
	if t.policy.Load().Uniform(m.at) && !t.ledger.Nested(m.spot) {
		return place{dir: m.root, name: rel, path: at}, nil
	}
	return m.walk(rel, follow)
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
	return quota.Spot{Store: m.spot.Store, Path: path.Join(m.spot.Path, rel)}
}

// spot is where in a store a path that was resolved to a place really is.
func (t *Tree) spot(p *place, at string) quota.Spot {
	m := t.mountOf(at)
	return m.under(within(m, p, at))
}

// maxSteps bounds the links and races that one walk puts up with, as the kernel
// bounds links (ELOOP).
const maxSteps = 40

var errOutside = keep.Refuse(keep.Outside, "the path leads out of the tree")

// walk goes down a relative path without letting the kernel follow a link.
func (m *mounted) walk(rel string, follow bool) (place, error) {
	for range maxSteps {
		p, again, err := m.descend(rel, follow)
		if err != nil {
			return place{}, err
		}
		if again == "" {
			return p, nil
		}
		rel = again
	}
	return place{}, keep.Refuse(keep.Outside, "too many links follow one another")
}

// descend makes one attempt; again is the path to try next when a link was met
// or a folder was swapped while it was being opened.
func (m *mounted) descend(rel string, follow bool) (p place, again string, err error) {
	parts := strings.Split(rel, "/")
	p = place{dir: m.root, walked: true}
	defer func() {
		if err != nil || again != "" {
			p.close()
		}
	}()
	for i, part := range parts {
		last := i == len(parts)-1
		p.name = part
		seen, err := p.dir.Lstat(part)
		if errors.Is(err, fs.ErrNotExist) && last {
			break
		}
		if err != nil {
			return p, "", err
		}
		if seen.Mode()&fs.ModeSymlink != 0 && (!last || follow) {
			again, err := m.linkTarget(&p, parts, i)
			return p, again, err
		}
		if last {
			p.seen = seen
			break
		}
		next, err := p.dir.OpenRoot(part)
		if err != nil {
			return p, "", err
		}
		opened, err := next.Stat(".")
		if err != nil || !os.SameFile(seen, opened) {
			next.Close()
			return p, rel, err
		}
		p.close()
		p.dir, p.owned = next, true
	}
	p.path = path.Join(m.at, rel)
	return p, "", nil
}

// linkTarget is the path that results from the link at parts[i].
func (m *mounted) linkTarget(p *place, parts []string, i int) (string, error) {
	target, err := p.dir.Readlink(parts[i])
	if err != nil {
		return "", err
	}
	if path.IsAbs(target) {
		return "", errOutside
	}
	joined := path.Join(strings.Join(parts[:i], "/"), target, strings.Join(parts[i+1:], "/"))
	if joined == ".." || strings.HasPrefix(joined, "../") || joined == "." {
		return "", errOutside
	}
	return joined, nil
}

// same makes sure that an opened file is the one the careful walk decided on.
func (p *place) same(f *os.File) error {
	if !p.walked || p.seen == nil {
		return nil
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !os.SameFile(info, p.seen) {
		return keep.Refuse(keep.Failure, "the file was replaced while it was being opened; try again")
	}
	return nil
}
