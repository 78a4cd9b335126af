package tree

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
)

// Touch changes times and modes of a path, following links. A zero time and a
// nil mode stay as they are.
func (t *Tree) Touch(at string, access, modified time.Time, mode *fs.FileMode) error {
	return t.act(keep.Touching, at, "", func() error {
		defer t.deed(at)()
		p, err := t.resolve(at, true, keep.Touch)
		if err != nil {
			return err
		}
		defer p.close()
		if err := t.may(keep.Touch, p.path); err != nil && (p.err != nil || !t.made.is(p.path, p.seen)) {
			return err
		}
		if p.err != nil {
			return p.err
		}
		if mode != nil {
			if err := p.dir.SetMode(p.name, *mode); err != nil {
				return err
			}
		}
		if access.IsZero() && modified.IsZero() {
			return nil
		}
		return p.dir.SetTimes(p.name, access, modified)
	})
}

// Resize cuts or extends a file to a size in bytes.
func (t *Tree) Resize(at string, size int64) error {
	return t.act(keep.Resizing, at, "", func() error {
		if err := errors.Join(quota.CheckEnd(0, size), t.policy.Load().CheckSize(size)); err != nil {
			return err
		}
		f, err := t.openFile(at, OpenMode{Write: true}, func(*place) error { return nil })
		if err != nil {
			return err
		}
		f.dirty.Store(true)
		err = f.held.Resize(size, func() error { return f.f.Truncate(size) })
		err = errors.Join(err, f.settle(err == nil))
		if f.wrote != nil {
			err = errors.Join(err, f.wrote(came(err == nil), size, ""))
		}
		return err
	})
}

// Symlink makes a symbolic link at a clean path. The target is a path of the
// tree as the client wrote it, absolute or relative to the link's folder; it
// must stay in the link's mount, and is stored relative, so that it holds
// wherever the store lies on the machine.
func (t *Tree) Symlink(target, at string) error {
	return t.act(keep.Linking, at, target, func() error {
		defer t.deed(at)()
		p, err := t.resolve(at, false, keep.Link)
		if err != nil {
			return err
		}
		defer p.close()
		if err := t.may(keep.Link, p.path); err != nil {
			return err
		}
		if err := t.notMount(p.path); err != nil {
			return err
		}
		if err := keep.CheckNewName(p.spelling()); err != nil {
			return err
		}
		relative, err := t.linkText(target, p.path)
		if err != nil {
			return err
		}
		linker, err := p.links()
		if err != nil {
			return err
		}
		return p.settled(t.ledger.Make(p.spot(), func() error { return linker.Symlink(keep.Unspell(relative), p.name) }))
	})
}

// linkText is what to store in a link at a path so that it leads to target.
func (t *Tree) linkText(target, at string) (string, error) {
	folder := path.Dir(at)
	if !strings.HasPrefix(target, "/") && climbsOut(folder, target) {
		return "", errOutside
	}
	end, err := keep.CleanPath(folder, target)
	if err != nil {
		return "", err
	}
	m := t.mountOf(at)
	if t.mountOf(end) != m {
		return "", keep.Refuse(keep.AcrossMounts, "a link can't lead into another mount")
	}
	if climbs := strings.TrimLeft(target, "./"); climbs != "" && !strings.HasPrefix(target, "/") && !strings.Contains("/"+climbs+"/", "/../") {
		return target, nil // as the client wrote it: it goes up first, and then down
	}
	from, to := strings.Split(strings.Trim(folder, "/"), "/"), strings.Split(strings.Trim(end, "/"), "/")
	for len(from) > 0 && len(to) > 0 && from[0] == to[0] {
		from, to = from[1:], to[1:]
	}
	var parts []string
	for _, part := range from {
		if part != "" {
			parts = append(parts, "..")
		}
	}
	if parts = append(parts, to...); len(parts) == 0 {
		return ".", nil // to its own folder
	}
	return path.Join(parts...), nil
}

// climbsOut reports whether a relative target has more ".." than its folder has
// levels: cleaning would hide that, the kernel would not.
func climbsOut(folder, target string) bool {
	joined := path.Join(strings.TrimPrefix(folder, "/"), target)
	return joined == ".." || strings.HasPrefix(joined, "../")
}

// Readlink gives the target of a link as stored, when it stays in the tree.
func (t *Tree) Readlink(at string) (string, error) {
	defer t.deed(at)()
	p, err := t.resolve(at, false, keep.List)
	if err != nil {
		return "", asFault(err)
	}
	defer p.close()
	if err := t.may(keep.List, p.path); err != nil {
		return "", err
	}
	linker, err := p.links()
	if err != nil {
		return "", err
	}
	text, err := linker.Readlink(p.name)
	if err != nil {
		return "", asFault(err)
	}
	target := keep.Spell(text)
	inMount := strings.TrimPrefix(path.Dir(p.m.rel(p.path)), ".")
	if path.IsAbs(target) || climbsOut(inMount, target) {
		return "", errOutside // it would tell a real path, and leads nowhere
	}
	return target, nil
}

// Hardlink gives a file a second name in the same mount.
func (t *Tree) Hardlink(from, to string) error {
	return t.act(keep.Linking, to, from, func() error {
		defer t.deeds(from, to)()
		src, err := t.resolve(from, false, keep.Download)
		if err != nil {
			return err
		}
		defer src.close()
		dst, err := t.resolve(to, false, keep.Link)
		if err != nil {
			return err
		}
		defer dst.close()
		if err := t.mayLink(&src, &dst); err != nil {
			return err
		}
		if src.held != "" {
			return errHeld
		}
		info, err := src.dir.Lookup(src.name)
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() {
			return keep.Refuse(keep.BadRequest, "only a file can get a second name")
		}
		if !t.ledger.Same(src.spot(), dst.spot()) {
			return keep.Refuse(keep.AcrossMounts, "a second name can't lie in the ground of another quota")
		}
		linker, err := src.links()
		if err != nil {
			return err
		}
		return dst.settled(t.ledger.Make(dst.spot(), func() error { return linker.Link(src.name, dst.dir, dst.name) }))
	})
}

// mayLink decides on a second name for a file: it must give no more than the first one
// does, now or at another time.
func (t *Tree) mayLink(src, dst *place) error {
	if src.m != dst.m {
		return keep.Refuse(keep.AcrossMounts, "a link can't lead into another mount")
	}
	for _, need := range []struct {
		right keep.Rights
		at    string
	}{{keep.Link, dst.path}, {keep.Download | keep.Overwrite, src.path}} {
		if err := t.may(need.right, need.at); err != nil {
			return err
		}
	}
	if !t.policy.Load().Alike(src.path, dst.path) {
		return keep.Refuse(keep.NoRight, "a second name must lie where the same grants decide, by name and time too: copy the file")
	}
	if err := t.notMount(dst.path); err != nil {
		return err
	}
	return keep.CheckNewName(dst.spelling())
}

// regular refuses what is not a plain file: opening a pipe or a device could
// wait for ever.
func regular(info os.FileInfo) error {
	switch {
	case info.IsDir():
		return keep.Refuse(keep.IsAFolder, "that is a folder")
	case !info.Mode().IsRegular():
		return keep.Refuse(keep.BadRequest, "that is not a plain file")
	}
	return nil
}
