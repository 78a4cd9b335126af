package tree

import (
	"cmp"
	"context"
	"io"
	"io/fs"
	"path"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

const (
	// MaxDepth bounds the folders in one another that are gone through, MaxAtOnce the files and folders that one deed is done to.
	MaxDepth  = 100
	MaxAtOnce = 200_000
)

var (
	errDeep = keep.Refuse(keep.BadRequest, "the folders lie too deep in one another: take one further down")
	errMany = keep.Refuse(keep.TooLarge, "that is too much at once: take a part of it")
)

// walk goes through all that is in a folder, whatever the account sees of it, each folder before what is in it. What belongs to
// the service is left out. n counts.
func (t *Tree) walk(ctx context.Context, folder *place, n *int, do func(found *place, info fs.FileInfo) error) error {
	dir, err := folder.enter()
	if err != nil {
		return err
	}
	defer dir.Close()
	return t.walkIn(ctx, &place{m: folder.m, dir: dir, path: folder.path}, n, 1, do)
}

// enter opens the folder that a place is.
func (p *place) enter() (store.Folder, error) {
	if p.name == "." {
		if d, can := p.dir.(store.Duplicator); can {
			return d.Duplicate()
		}
		return unowned{p.dir}, nil
	}
	return p.dir.Enter(p.name)
}

// unowned is a folder that somebody else closes.
type unowned struct{ store.Folder }

func (unowned) Close() error { return nil }

func (t *Tree) walkIn(ctx context.Context, in *place, n *int, level int, do func(found *place, info fs.FileInfo) error) error {
	if level > MaxDepth {
		return errDeep
	}
	entries, err := in.dir.Entries()
	if err != nil {
		return err
	}
	defer entries.Close()
	for {
		some, err := entries.Next(store.LargeRead)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for _, info := range some {
			if store.Hidden(info.Name()) {
				continue
			}
			if *n++; *n > MaxAtOnce {
				return errMany
			}
			found := &place{m: in.m, dir: in.dir, name: info.Name(), path: path.Join(in.path, keep.Spell(info.Name()))}
			if err := cmp.Or(ctx.Err(), do(found, info)); err != nil {
				return err
			}
			if !info.IsDir() {
				continue
			}
			inside, err := in.dir.Enter(info.Name())
			if err != nil {
				return err
			}
			err = t.walkIn(ctx, &place{m: in.m, dir: inside, path: found.path}, n, level+1, do)
			inside.Close()
			if err != nil {
				return err
			}
		}
	}
}
