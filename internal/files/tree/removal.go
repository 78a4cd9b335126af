package tree

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// RemoveAll removes what a path leads to, a link itself, with all that is in it, each thing with its record. All of it is decided
// before anything goes: when some of it may not, the error is [Refusals] and nothing has changed. What can't be removed all the
// same is in them too; the rest is gone.
func (t *Tree) RemoveAll(ctx context.Context, at string) error {
	info, err := func() (fs.FileInfo, error) {
		defer t.deed(at)()
		p, err := t.resolve(at, false, keep.Delete)
		if err != nil {
			return nil, err
		}
		defer p.close()
		info, err := p.dir.Lookup(p.name)
		if err != nil || !info.IsDir() {
			return info, err // which is decided when it is done
		}
		return info, t.mayGo(ctx, &p, info, false)
	}()
	if info == nil || !info.IsDir() {
		return t.Remove(at) // with its record, of what is refused too
	}
	if err != nil {
		t.noteRefused(keep.RemoveDir, at, "", err)
		return shown(err)
	}
	var r removal
	if err := t.removeAll(ctx, at, true, 0, &r); err != nil {
		return err
	}
	if len(r.refused) > 0 {
		return r.refused
	}
	return nil
}

// noteRefused records a deed that was refused as a whole.
func (t *Tree) noteRefused(action keep.Action, at, target string, err error) {
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	r := t.base(action, at)
	if target != "" {
		r.Target = target
	}
	t.ended(&r, asFault(err))
	t.trail.Note(r)
}

type removal struct {
	n       int
	refused Refusals
}

// removeAll removes a path; what can't be is noted, but for the path itself.
func (t *Tree) removeAll(ctx context.Context, at string, folder bool, level int, r *removal) error {
	if r.n++; r.n > MaxAtOnce {
		return errMany
	}
	if level > MaxDepth {
		return errDeep
	}
	if err := ctx.Err(); err != nil {
		return asFault(err)
	}
	if !folder {
		return t.Remove(at)
	}
	before := len(r.refused)
	names, err := t.inside(at)
	for _, info := range names {
		child := path.Join(at, keep.Spell(info.Name()))
		err := t.removeAll(ctx, child, info.IsDir(), level+1, r)
		if ctx.Err() != nil || err == errMany {
			return err
		}
		if err != nil && len(r.refused) < maxRefusals {
			r.refused = append(r.refused, Refusal{child, info.IsDir(), err})
		}
	}
	if err != nil {
		return asFault(err)
	}
	if len(r.refused) > before {
		return nil // it is not empty
	}
	return t.Rmdir(at)
}

// inside gives the facts of all that is right in a folder, whatever the account sees of it.
func (t *Tree) inside(at string) (all []fs.FileInfo, err error) {
	defer t.deed(at)()
	p, err := t.resolve(at, false, keep.Rmdir)
	if err != nil {
		return nil, err
	}
	defer p.close()
	dir, err := p.enter()
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.Entries()
	if err != nil {
		return nil, err
	}
	defer entries.Close()
	for {
		some, err := entries.Next(store.LargeRead)
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		for _, info := range some {
			if !store.Hidden(info.Name()) {
				all = append(all, info)
			}
		}
		if len(all) > MaxAtOnce {
			return nil, errMany
		}
	}
}
