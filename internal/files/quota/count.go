package quota

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"sync"
	"syscall"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// count counts the places of a store that are to be counted, one after the other.
func (l *Ledger) count(store string) {
	for {
		l.mu.Lock()
		waiting := l.pending[store]
		if len(waiting) == 0 {
			delete(l.pending, store)
			l.mu.Unlock()
			return
		}
		p := waiting[0]
		l.pending[store] = waiting[1:]
		l.mu.Unlock()
		select {
		case <-l.quit:
			return
		default:
		}
		if _, err := l.countPlace(p); err != nil {
			l.log.Error("a folder with a quota can't be counted", "store", p.spot.Store, "folder", p.spot.Path, "cause", err)
		}
	}
}

// Recount counts a place anew, and gives what was found; nobody changes it
// meanwhile.
func (l *Ledger) Recount(spot Spot) (Difference, error) {
	l.mu.Lock()
	p := l.places[spot]
	l.mu.Unlock()
	if p == nil {
		return Difference{}, keep.Refuse(keep.NotFound, "no quota is set on that folder: quota list shows the ones there are")
	}
	return l.countPlace(p)
}

// countPlace closes the place to changes, walks it and opens it again.
func (l *Ledger) countPlace(p *place) (Difference, error) {
	l.mu.Lock()
	walks := l.walks[p.spot.Store]
	if walks == nil {
		walks = &sync.Mutex{}
		l.walks[p.spot.Store] = walks
	}
	l.mu.Unlock()
	walks.Lock()
	defer walks.Unlock()
	l.mu.Lock()
	first := false
	select {
	case <-p.known:
		p.known = make(chan struct{})
	default:
		first = true
	}
	l.mu.Unlock()
	// Whoever is in the middle of a change ends it first.
	err := l.drain(context.Background(), p.spot)
	var bytes, files int64
	if err == nil {
		bytes, files, err = l.walk(p.spot)
	}
	l.mu.Lock()
	for _, f := range l.open { // what has no name any more takes room until it is closed
		if f.gone && slices.Contains(l.over(f.spot), p) {
			bytes += f.size - f.taken
		}
	}
	d := Difference{p.spot, p.bytes, p.files, bytes, files}
	differs := p.bytes != bytes || p.files != files
	if err == nil || first {
		p.bytes, p.files, p.unknown = bytes, files, err != nil
		if differs && p.settled {
			p.settled = false
		}
	}
	p.counted = time.Now()
	if p.unknown {
		p.counted = p.counted.Add(recountSoon - recountEvery)
	}
	close(p.known)
	l.mu.Unlock()
	if err == nil && differs && !first && l.told != nil {
		l.told(d)
	}
	return d, err
}

// walk adds up a folder. Open files count with the size that they were let grow to.
func (l *Ledger) walk(spot Spot) (bytes, files int64, err error) {
	root, err := l.root(spot)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) || errors.Is(err, store.ErrLink) {
		return 0, 0, nil // nobody has signed in yet, or something else has the name
	}
	if err != nil {
		return 0, 0, err
	}
	defer root.Close()
	c, err := l.sum(root, spot)
	return c.bytes, c.files, err
}

func (l *Ledger) root(spot Spot) (store.Folder, error) {
	stores, err := l.stores(context.Background())
	if err != nil {
		return nil, err
	}
	for _, s := range stores {
		if s.Name == spot.Store {
			return l.look(s, spot.Path)
		}
	}
	return nil, fmt.Errorf("no store is named %q", spot.Store)
}

// sum adds up what is below a folder, which does not count itself.
func (l *Ledger) sum(folder store.Folder, spot Spot) (counting, error) {
	c := counting{l: l, names: map[fileID]uint64{}, met: map[fileID]bool{}}
	err := c.add(folder, spot, 0)
	if err == nil {
		c.rest(spot)
	}
	return c, err
}

// counting is one count of a folder.
type counting struct {
	l            *Ledger
	names        map[fileID]uint64 // of files with several: how many are still to be met
	met          map[fileID]bool   // open files that were met, of stores that know them by their paths
	bytes, files int64
}

// shared reports whether a file has a name elsewhere too.
func (c *counting) shared() bool {
	for _, missing := range c.names {
		if missing > 0 {
			return true
		}
	}
	return false
}

// maxDepth bounds the folders in one another that are counted, each of which is held open.
const maxDepth = 1000

func (c *counting) add(folder store.Folder, spot Spot, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("folders lie more than %d deep in one another", maxDepth)
	}
	entries, err := folder.Entries()
	if err != nil {
		c.l.log.Warn("part of a folder with a quota can't be read", "cause", err)
		return nil
	}
	defer entries.Close()
	for {
		page, err := entries.Next(store.LargeRead)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			c.l.log.Warn("part of a folder with a quota can't be read", "cause", err)
			return nil
		}
		for _, info := range page {
			if spot.Path == "." && store.Reserved(info.Name()) {
				continue // which no account sees
			}
			c.files++
			at := Spot{Store: spot.Store, Path: path.Join(spot.Path, info.Name())}
			switch {
			case info.IsDir():
				if err := c.enter(folder, info.Name(), at, depth); err != nil {
					return err
				}
			case info.Mode().IsRegular():
				c.file(info, at)
			}
		}
	}
}

func (c *counting) enter(folder store.Folder, name string, spot Spot, depth int) error {
	inner, err := folder.Enter(name)
	if err != nil {
		return nil // it went meanwhile
	}
	defer inner.Close()
	return c.add(inner, spot, depth+1)
}

func (c *counting) file(info fs.FileInfo, spot Spot) {
	id, names := identify(info, spot)
	if names > 1 {
		if missing, met := c.names[id]; met {
			c.names[id] = missing - min(missing, 1)
			return
		}
		c.names[id] = names - 1
	}
	size := info.Size()
	c.l.mu.Lock()
	if f := c.l.open[id]; f != nil {
		size = f.size
		if id.spot != (Spot{}) {
			c.met[id] = true
		}
	}
	c.l.mu.Unlock()
	c.bytes = more(c.bytes, size)
}

// rest adds the files that are being written and appear in no folder before they are whole.
func (c *counting) rest(spot Spot) {
	c.l.mu.Lock()
	defer c.l.mu.Unlock()
	for id, f := range c.l.open {
		if id.spot != (Spot{}) && !c.met[id] && !f.gone && f.spot.Store == spot.Store && within(spot.Path, f.spot.Path) {
			c.files++
			c.bytes = more(c.bytes, f.size)
		}
	}
}
