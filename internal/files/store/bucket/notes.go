package bucket

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// note says what must be cleaned up in a bucket if the process ends: an upload that is sent in parts, or a folder
// that is being renamed.
type note struct {
	Key    string `json:"key,omitempty"`
	Upload string `json:"upload,omitempty"`
	Move   string `json:"move,omitempty"` // a prefix
	To     string `json:"to,omitempty"`
	Copied bool   `json:"copied,omitempty"` // all of it is at To
}

// notes are files of a folder, named by the store.
type notes struct{ dir, store string }

func (n notes) start() string { return "note-" + n.store + "-" }

func (n notes) add(one note) (name string, err error) {
	if err := os.Mkdir(n.dir, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return "", err
	}
	text, err := json.Marshal(one)
	if err != nil {
		return "", err
	}
	name = filepath.Join(n.dir, n.start()+rand.Text())
	return name, os.WriteFile(name, text, 0o600)
}

func (n notes) drop(name string) {
	if name != "" {
		os.Remove(name)
	}
}

func (n notes) all() map[string]note {
	found := map[string]note{}
	names, _ := filepath.Glob(filepath.Join(n.dir, n.start()+"*"))
	for _, name := range names {
		if len(filepath.Base(name)) != len(n.start())+len(rand.Text()) || !strings.HasPrefix(filepath.Base(name), n.start()) {
			continue // of a store whose name begins like this one's
		}
		var one note
		if text, err := os.ReadFile(name); err == nil && json.Unmarshal(text, &one) == nil {
			found[name] = one
		}
	}
	return found
}

// cleanUpAgain is how long it takes until what could not be cleaned up is tried again.
const cleanUpAgain = time.Minute

// later cleans up by itself what could not be cleaned up at once.
func (b *Bucket) later(name string, one note) {
	b.work.Go(func() { b.cleanUp(map[string]note{name: one}) })
}

// cleanUp does what was noted, until all of that is done.
func (b *Bucket) cleanUp(left map[string]note) {
	for len(left) > 0 {
		for name, one := range left {
			if err := b.carryOut(one); err == nil {
				b.notes.drop(name)
				delete(left, name)
			} else if b.ctx.Err() == nil {
				b.log.Warn("what was left in a bucket can't be cleaned up; it is tried again", "store", b.name, "cause", err)
			}
		}
		if len(left) == 0 {
			return
		}
		select {
		case <-b.ctx.Done():
			return
		case <-time.After(cleanUpAgain):
		}
	}
}

func (b *Bucket) carryOut(n note) error {
	ctx, cancel := context.WithTimeout(b.ctx, writePatience)
	defer cancel()
	if n.Upload != "" {
		return b.d.Resume(n.Key, n.Upload).Abort(ctx)
	}
	objects, err := b.all(ctx, n.Move, 2*maxMoved)
	if err != nil {
		return err
	}
	if n.Copied {
		return b.each(objects, func(o Object) error { return b.d.Delete(ctx, o.Key) })
	}
	return b.undoMove(objects, n.Move, n.To)
}
