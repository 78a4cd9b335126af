package tree

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Listing is a folder that is being read. It keeps an open folder and no names, however
// many there are.
type Listing struct {
	t       *Tree
	path    string // in the tree, after links
	mounts  []fs.FileInfo
	hidden  map[string]bool   // what a mount lies over
	mine    map[string]string // names of what the account has held here, by the name under which it lies
	entries store.Entries     // nil: there is nothing but mounts
	ahead   *page             // what was read ahead; nil: nothing was
	broke   error             // why it broke off
}

// page is what one reading gave.
type page struct {
	entries []fs.FileInfo
	err     error
}

// ReadFolder begins to list a folder: the mounts in it first, then what lies there, as it
// comes from the disk. The facts of a link are its own.
func (t *Tree) ReadFolder(at string) (*Listing, error) {
	var l *Listing
	err := t.act(keep.Listing, at, "", func() (err error) {
		l, err = t.readFolder(at)
		return err
	})
	return l, err
}

func (t *Tree) readFolder(at string) (*Listing, error) {
	defer t.deed(at)()
	policy := t.policy.Load()
	p, err := t.resolve(at, true, keep.List)
	branches := policy.Branches(at)
	if err != nil && len(branches) == 0 {
		return nil, err
	}
	l := &Listing{t: t, path: at, hidden: map[string]bool{}}
	if err == nil {
		defer p.close()
		l.path = p.path
		branches = policy.Branches(p.path)
		verdict := policy.Decide(keep.List, p.path, time.Now())
		switch {
		case !verdict.Allowed && len(branches) == 0:
			return nil, verdict.Fault()
		case verdict.Allowed:
			if l.entries, err = p.entries(); err != nil && !(errors.Is(err, fs.ErrNotExist) && len(branches) > 0) {
				return nil, err
			}
			if l.ReadAhead(store.LargeRead); l.ahead != nil && l.ahead.err != nil && l.ahead.err != io.EOF { // what can't be read is not begun
				return nil, errors.Join(l.ahead.err, l.entries.Close())
			}
		}
	}
	if m := t.mountOf(l.path); m.at == l.path && m.spot.Path == "." {
		l.hidden[store.MarkName], l.hidden[store.SpoolName], l.hidden[store.ProbeName] = true, true, true
	}
	if t.holds != nil && err == nil && !t.holds.None() {
		l.holdsOf(t.holds.In(p.m.under(p.m.rel(p.path)), t.owner()))
	}
	for _, name := range branches {
		l.hidden[name] = true
		l.mounts = append(l.mounts, t.mountFacts(path.Join(l.path, name)))
	}
	for _, name := range policy.Absent(l.path) {
		l.hidden[name] = true
	}
	return l, nil
}

// holdsOf has the account see what it has held in the folder, instead of what has the name already.
func (l *Listing) holdsOf(held map[string]string) {
	if len(held) == 0 {
		return
	}
	l.mine = map[string]string{}
	for id, name := range held {
		l.mine[store.HeldPrefix+id] = name
		l.hidden[name] = true
	}
}

// entries opens what is at the place for reading; it must be a folder.
func (p *place) entries() (store.Entries, error) {
	if p.err != nil {
		return nil, p.err
	}
	if !p.seen.IsDir() {
		return nil, keep.Refuse(keep.NotAFolder, "that is not a folder")
	}
	if p.name == "." {
		return p.dir.Entries()
	}
	folder, err := p.dir.Enter(p.name)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return folder.Entries()
}

// mountFacts are those of a mount, or of a folder that only leads to one.
func (t *Tree) mountFacts(at string) fs.FileInfo {
	if m := t.mountOf(at); m.at == at {
		if info, err := m.folder.Lookup("."); err == nil {
			return renamed{info, path.Base(at)}
		}
	}
	return branch{path.Base(at)}
}

// Next gives some more entries, read with a buffer of so many bytes; [io.EOF] after the last.
func (l *Listing) Next(buffer int) ([]fs.FileInfo, error) {
	if len(l.mounts) > 0 {
		mounts := l.mounts
		l.mounts = nil
		return mounts, nil
	}
	for l.entries != nil {
		l.ReadAhead(buffer)
		found, err := l.ahead.entries, l.ahead.err
		l.ahead = nil
		if err == io.EOF {
			break
		}
		if err != nil {
			l.broke = asFault(err)
			return nil, l.broke
		}
		if found = l.seen(found); len(found) > 0 {
			return found, nil
		}
	}
	return nil, io.EOF
}

// ReadAhead reads what [Listing.Next] will give next, so that a protocol can do that while
// its client is busy. What the account may see of it is decided by Next.
func (l *Listing) ReadAhead(buffer int) {
	if l.ahead == nil && l.entries != nil {
		l.ahead = &page{}
		l.ahead.entries, l.ahead.err = l.entries.Next(buffer)
	}
}

// seen are those of the entries that the account may see, with the names that they have
// in the tree.
func (l *Listing) seen(entries []fs.FileInfo) []fs.FileInfo {
	policy, now := l.t.policy.Load(), time.Now()
	plain := policy.Plain(l.path)
	if plain && !policy.Decide(keep.List, l.path, now).Allowed {
		return nil
	}
	for i, e := range entries {
		if spelled := keep.Spell(e.Name()); spelled != e.Name() {
			entries[i] = renamed{e, spelled}
		}
	}
	if plain && len(l.hidden) == 0 && !slices.ContainsFunc(entries, func(e fs.FileInfo) bool { return store.Hidden(e.Name()) }) {
		return entries
	}
	for i, e := range entries {
		if name, mine := l.mine[e.Name()]; mine {
			entries[i] = renamed{e, name}
		}
	}
	return slices.DeleteFunc(entries, func(e fs.FileInfo) bool {
		if _, mine := e.(renamed); mine && l.mine[unnamed(e).Name()] == e.Name() {
			return !plain && !policy.See(path.Join(l.path, e.Name()), e.IsDir(), now).Allowed
		}
		return store.Hidden(e.Name()) || l.hidden[e.Name()] || !plain && !policy.See(path.Join(l.path, e.Name()), e.IsDir(), now).Allowed
	})
}

// Close lets go of the folder. A listing that broke off is recorded as such: the record of its beginning says only that.
func (l *Listing) Close() error {
	if l.broke != nil {
		l.t.act(keep.Listing, l.path, "", func() error { return l.broke })
		l.broke = nil
	}
	if l.entries == nil {
		return nil
	}
	return l.entries.Close()
}
