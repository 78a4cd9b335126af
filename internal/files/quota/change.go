package quota

import (
	"errors"
	"io/fs"
	"path"
	"strings"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Make lets one more name come about at a path.
func (l *Ledger) Make(spot Spot, do func() error) error {
	c, err := l.enter(spot)
	if err != nil {
		return err
	}
	defer c.leave()
	defer l.hold(spot)()
	l.mu.Lock()
	places := l.over(spot)
	if _, files, _ := room(places); files < 1 {
		l.mu.Unlock()
		return errFilesFull
	}
	add(places, 0, 1)
	l.mu.Unlock()
	if err = do(); err != nil {
		l.mu.Lock()
		add(places, 0, -1)
		l.mu.Unlock()
	}
	return err
}

// Made counts folders that were made without asking: a mount's own.
func (l *Ledger) Made(spot Spot, folders int) error {
	for range folders {
		c, err := l.enter(spot)
		if err != nil {
			return err
		}
		l.mu.Lock()
		add(l.over(spot), 0, 1)
		l.mu.Unlock()
		c.leave()
		spot.Path = path.Dir(spot.Path)
	}
	return nil
}

// Remove lets a name go, and with a file's last name its bytes. look tells what is
// there, or why it may not go.
func (l *Ledger) Remove(spot Spot, look func() (fs.FileInfo, error), do func() error) error {
	c, err := l.enter(spot)
	if err != nil {
		return err
	}
	defer c.leave()
	defer l.hold(spot)()
	info, err := look()
	if err != nil {
		return err
	}
	again := steady(info, look)
	pinned, err := l.pin(spot, again)
	if err != nil {
		return err
	}
	if err = do(); err == nil {
		l.mu.Lock()
		l.removed(spot, info, pinned)
		l.mu.Unlock()
	}
	pinned.let(again)
	return err
}

// steady gives the facts that are known already of what is in a store that is asked over a network: nobody
// waits for that while the books are held.
func steady(info fs.FileInfo, look func() (fs.FileInfo, error)) func() (fs.FileInfo, error) {
	if _, slow := info.Sys().(store.Identity); slow {
		return func() (fs.FileInfo, error) { return info, nil }
	}
	return look
}

// pin follows a file that is about to lose a name as if it were open, so that its
// size is known to the last moment; nil for what is no file.
func (l *Ledger) pin(spot Spot, look func() (fs.FileInfo, error)) (*File, error) {
	info, err := look()
	if err != nil || !info.Mode().IsRegular() {
		return nil, err
	}
	return l.track(spot, false, look)
}

// removed takes a name from the places; the bytes of a file's last name go with
// the last that has it open. The caller holds mu.
func (l *Ledger) removed(spot Spot, info fs.FileInfo, pinned *File) {
	add(l.over(spot), 0, -1)
	if id, names := identify(info, spot); pinned != nil && names <= 1 {
		pinned.gone = true
		l.freed(id, info)
	}
}

// Move is a rename, inside a store or from one to another.
type Move struct {
	From, To Spot
	Back     bool                         // it was there, and comes back: it fits
	Inside   func() (store.Folder, error) // opens the source, a folder
	// Look tells what is at both ends, nil for nothing at To, or why it may not move.
	Look func() (source, replaced fs.FileInfo, err error)
}

// maxMoved bounds the names in a folder that is moved from the ground of one quota
// to that of another: everybody else waits meanwhile.
const maxMoved = 100_000

// Rename lets something move. What it holds must fit where it goes.
func (l *Ledger) Rename(m Move, do func() error) error {
	if l.Holds(m.From) || l.Holds(m.To) {
		return keep.Refuse(keep.InUse, "a folder with a quota of its own is there; only an administrator can move it")
	}
	enter, same := l.enterAlone, l.Same(m.From, m.To)
	if same {
		enter = l.enter
	}
	c, err := enter(m.From, m.To)
	if err != nil {
		return err
	}
	defer c.leave()
	if same {
		defer l.hold(m.From, m.To)()
	}
	source, replaced, err := m.Look()
	if err != nil {
		return err
	}
	if replaced != nil && store.Same(source, replaced) {
		return do() // two names of one file: both stay (POSIX, rename)
	}
	var pinned *File
	there := func() (fs.FileInfo, error) {
		_, there, err := m.Look()
		if err == nil && there == nil {
			err = fs.ErrNotExist
		}
		return there, err
	}
	if replaced != nil {
		there = steady(replaced, there)
		pinned, err = l.pin(m.To, there)
		if errors.Is(err, fs.ErrNotExist) {
			replaced = nil // somebody has taken it away since, and counted that
		} else if err != nil {
			return err
		}
		defer func() { pinned.let(there) }()
	}
	l.mu.Lock()
	leaves, joins := apart(l.over(m.From), l.over(m.To))
	l.mu.Unlock()
	bytes, files := int64(0), int64(1)
	switch {
	case source.IsDir() && len(leaves)+len(joins) > 0:
		inside, err := m.Inside()
		if err != nil {
			return err
		}
		c, err := l.sum(inside, m.From)
		if err := errors.Join(err, inside.Close()); err != nil {
			return err
		}
		bytes, files = c.bytes, c.files+1
		if c.shared() {
			return keep.Refuse(keep.AcrossMounts, "a file in the folder has another name elsewhere, so it can't be moved from one quota to another: copy it")
		}
		if files > maxMoved {
			return keep.Refuse(keep.AcrossMounts, "the folder holds too much to be moved from one quota to another: move what is in it, part by part")
		}
	case source.Mode().IsRegular():
		id, names := identify(source, m.From)
		bytes = source.Size()
		l.mu.Lock()
		if f := l.open[id]; f != nil {
			bytes = f.size
		}
		l.mu.Unlock()
		if names > 1 && len(leaves)+len(joins) > 0 {
			return keep.Refuse(keep.AcrossMounts, "a file with several names can't be moved from one quota to another: copy it")
		}
	}
	l.mu.Lock()
	freeBytes, freeFiles, tightest := room(joins)
	if replaced != nil {
		freeFiles++
		if _, names := identify(replaced, m.To); pinned != nil && names <= 1 && pinned.opens == 1 {
			freeBytes += pinned.size
		}
	}
	if !m.Back && (tightest != nil && bytes > freeBytes || len(joins) > 0 && files > freeFiles) {
		l.mu.Unlock()
		if tightest == nil || bytes <= freeBytes {
			return errFilesFull
		}
		return keep.Refuse(keep.QuotaFull, "it does not fit there: the quota of "+keep.SaySize(int64(tightest.quota.Bytes))+" has "+keep.SaySize(max(0, freeBytes))+" left")
	}
	l.mu.Unlock()
	if err := do(); err != nil { // where it joins a place, nobody else adds to it meanwhile
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	add(joins, bytes, files)
	add(leaves, -bytes, -files)
	if replaced != nil {
		l.removed(m.To, replaced, pinned)
		if pinned != nil && pinned.gone && pinned.opens == 1 { // its bytes go as those come that take its place: nobody sees both
			pinned.last(nil, nil)
			pinned = nil
		}
	}
	for _, f := range l.open {
		if f.spot.Store == m.From.Store && !f.gone && within(m.From.Path, f.spot.Path) {
			f.spot = Spot{Store: m.To.Store, Path: m.To.Path + strings.TrimPrefix(f.spot.Path, m.From.Path)}
		}
	}
	return nil
}

// Same reports whether the same places hold two paths.
func (l *Ledger) Same(a, b Spot) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	leaves, joins := apart(l.over(a), l.over(b))
	return len(leaves)+len(joins) == 0
}

// apart gives the places of each list that are not in the other.
func apart(from, to []*place) (leaves, joins []*place) {
	in := map[*place]bool{}
	for _, p := range to {
		in[p] = true
	}
	for _, p := range from {
		if !in[p] {
			leaves = append(leaves, p)
		}
		delete(in, p)
	}
	for p := range in {
		joins = append(joins, p)
	}
	return leaves, joins
}
