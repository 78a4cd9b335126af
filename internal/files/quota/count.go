package quota

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// count counts the places that are to be counted, one after the other.
func (l *Ledger) count() {
	for {
		l.mu.Lock()
		var p *place
		if len(l.pending) > 0 {
			p, l.pending = l.pending[0], l.pending[1:]
		}
		l.mu.Unlock()
		select {
		case <-l.quit:
			return
		default:
		}
		if p == nil {
			select {
			case <-l.quit:
				return
			case <-l.wake:
			}
		} else {
			if _, err := l.countPlace(p); err != nil {
				l.log.Error("a folder with a quota can't be counted", "store", p.spot.Store, "folder", p.spot.Path, "cause", err)
			}
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
	l.walks.Lock()
	defer l.walks.Unlock()
	l.gate.Lock() // whoever is in the middle of a change ends it first
	l.mu.Lock()
	first := false
	select {
	case <-p.known:
		p.known = make(chan struct{})
	default:
		first = true
	}
	l.mu.Unlock()
	l.gate.Unlock()

	bytes, files, err := l.walk(p.spot)
	l.mu.Lock()
	for _, f := range l.open { // what has no name any more takes room until it is closed
		if f.gone && slices.Contains(l.over(f.spot), p) {
			bytes += f.size - f.taken
		}
	}
	d := Difference{p.spot, p.bytes, p.files, bytes, files}
	differs := p.bytes != bytes || p.files != files
	if err == nil || first {
		p.bytes, p.files = bytes, files
		if differs && p.settled {
			p.settled = false
		}
	}
	p.counted = time.Now()
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
	if errors.Is(err, fs.ErrNotExist) {
		return 0, 0, nil // nobody has signed in yet
	}
	if err != nil {
		return 0, 0, err
	}
	defer root.Close()
	return l.sum(root, ".")
}

func (l *Ledger) root(spot Spot) (*os.Root, error) {
	stores, err := l.stores(context.Background())
	if err != nil {
		return nil, err
	}
	for _, s := range stores {
		if s.Name == spot.Store {
			return store.Look(s, spot.Path)
		}
	}
	return nil, fmt.Errorf("no store is named %q", spot.Store)
}

// sum adds up what is below a folder, which does not count itself.
func (l *Ledger) sum(root *os.Root, folder string) (bytes, files int64, err error) {
	seen := map[fileID]bool{} // files with several names
	err = fs.WalkDir(root.FS(), folder, func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			l.log.Warn("part of a folder with a quota can't be read", "cause", err)
			return nil
		}
		if at == folder {
			return nil
		}
		files++
		if !entry.Type().IsRegular() {
			return nil
		}
		info, err := entry.Info()
		if err != nil {
			return nil // it went meanwhile
		}
		id, names := identify(info, Spot{})
		if names > 1 {
			if seen[id] {
				return nil
			}
			seen[id] = true
		}
		size := info.Size()
		l.mu.Lock()
		if f := l.open[id]; f != nil {
			size = f.size
		}
		l.mu.Unlock()
		bytes += size
		return nil
	})
	return bytes, files, err
}
