package bucket

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"syscall"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// maxMoved bounds the objects of a folder that is renamed: each one is copied, and everybody who uses the
// store waits.
const maxMoved = 10_000

// atOnce is how many objects are copied or deleted at once.
const atOnce = 8

// Rename copies and deletes, since a bucket can't rename. For a file both names are there for a moment; a folder's
// files appear one by one, and when that fails what was copied is taken away again.
func (f *folder) Rename(name string, to store.Folder, target string, replace bool) error {
	from, err := f.key("rename", name)
	if err != nil {
		return err
	}
	into, same := to.(*folder)
	if !same || into.b != f.b {
		return wrong("rename", name, syscall.EXDEV)
	}
	onto, err := into.key("rename", target)
	if err != nil {
		return err
	}
	b := f.b
	defer b.names.hold(from, onto)()
	if err := errors.Join(b.quiet(from), b.quiet(onto)); err != nil {
		return errBusy
	}
	o, isFolder, err := b.there(from)
	if err != nil {
		return named("rename", name, err)
	}
	if from == onto {
		return nil
	}
	switch _, overFolder, err := b.there(onto); {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case !replace:
		return wrong("rename", name, fs.ErrExist)
	case overFolder:
		return wrong("rename", name, syscall.EISDIR)
	case isFolder:
		return wrong("rename", name, syscall.ENOTDIR)
	}
	if isFolder && strings.HasPrefix(onto, from+"/") {
		return wrong("rename", name, fs.ErrInvalid)
	}
	defer b.absent.drop(onto)
	if err := b.mark(f.at); err != nil { // or the folder would go with its last file
		return err
	}
	if isFolder {
		return b.moveFolder(from+"/", onto+"/")
	}
	ctx, cancel := b.writing()
	defer cancel()
	if err := b.d.Copy(ctx, o, onto); err != nil {
		return b.fault(err)
	}
	return b.fault(b.d.Delete(ctx, from))
}

// all lists what is below a prefix, up to a bound.
func (b *Bucket) all(ctx context.Context, prefix string, most int) (found []Object, err error) {
	for after := ""; ; {
		page, err := b.d.List(ctx, prefix, true, after, pageSize)
		if err != nil {
			return nil, err
		}
		found = append(found, page.Objects...)
		if len(found) > most {
			return nil, keep.Refuse(keep.AcrossMounts, fmt.Sprintf("the folder holds more than %d files, which this store can't rename at once: move what is in it, part by part", most))
		}
		if after = page.Next; after == "" {
			return found, nil
		}
	}
}

// moveFolder copies all that is below a prefix, then deletes it there. It is noted how far it came, so
// that the next start goes on with it.
func (b *Bucket) moveFolder(from, to string) error {
	ctx, cancel := context.WithTimeout(b.ctx, writePatience)
	defer cancel()
	objects, err := b.all(ctx, from, maxMoved)
	if err != nil {
		return b.fault(err)
	}
	b.gone(from)
	noted, err := b.notes.add(note{Move: from, To: to})
	if err != nil {
		return err
	}
	err = b.each(objects, func(o Object) error { return b.copyTo(ctx, o, to+strings.TrimPrefix(o.Key, from)) })
	if err != nil {
		if undone := b.undoMove(objects, from, to); undone == nil {
			b.notes.drop(noted)
		} else {
			b.later(noted, note{Move: from, To: to})
		}
		return b.fault(err)
	}
	copied, err := b.notes.add(note{Move: from, To: to, Copied: true})
	if err != nil {
		return err
	}
	b.notes.drop(noted)
	if err := b.each(objects, func(o Object) error { return b.d.Delete(ctx, o.Key) }); err != nil {
		b.log.Warn("a renamed folder is still under its old name too; it is removed later", "store", b.name, "cause", err)
		b.later(copied, note{Move: from, To: to, Copied: true})
		return b.fault(err)
	}
	b.notes.drop(copied)
	return nil
}

// copyTo copies an object; the mark of a folder is made anew, which every service can.
func (b *Bucket) copyTo(ctx context.Context, o Object, to string) error {
	if !strings.HasSuffix(o.Key, "/") {
		return b.d.Copy(ctx, o, to)
	}
	now, err := b.d.Head(ctx, o.Key)
	if err != nil {
		return err
	}
	return b.d.Put(ctx, to, strings.NewReader(""), 0, now.Kept)
}

// undoMove deletes what was copied.
func (b *Bucket) undoMove(objects []Object, from, to string) error {
	ctx, cancel := b.writing()
	defer cancel()
	b.gone(to)
	return b.each(objects, func(o Object) error { return b.d.Delete(ctx, to+strings.TrimPrefix(o.Key, from)) })
}

// each does something to objects, some at once, until the first error.
func (b *Bucket) each(objects []Object, do func(Object) error) error {
	var mu sync.Mutex
	var first error
	var work sync.WaitGroup
	places := make(chan struct{}, atOnce)
	for _, o := range objects {
		mu.Lock()
		failed := first
		mu.Unlock()
		if failed != nil {
			break
		}
		places <- struct{}{}
		work.Go(func() {
			defer func() { <-places }()
			if err := do(o); err != nil {
				mu.Lock()
				defer mu.Unlock()
				if first == nil {
					first = err
				}
			}
		})
	}
	work.Wait()
	return first
}
