package tree

import (
	"errors"
	"io/fs"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

const (
	// fillTime is how long an empty file may be filled by whoever has just made it, as if it were made with what fills it.
	fillTime = time.Minute
	// maxFresh bounds those that are remembered, maxFreshOf those of one account.
	maxFresh, maxFreshOf = 4096, 64
)

// Fresh are empty files that were made a moment ago by clients that make a file first and fill it next, as what mounts WebDAV as
// a disk does. Until it is filled, or its time is over, such a file is an upload under way: it is one upload, with one record and one
// check. Its zero value is ready.
type Fresh struct {
	count atomic.Int64
	mu    sync.Mutex
	by    map[quota.Spot]*fresh
	of    map[string]int
}

type fresh struct {
	owner string
	info  fs.FileInfo
	end   func(whole bool) error       // ends it as an upload of nothing; not whole: something comes now
	told  func(keep.AuditRecord) error // takes the record of what comes
	timer *time.Timer
}

// add remembers one for a while; false when there is no room.
func (f *Fresh) add(spot quota.Spot, one *fresh, until time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.by == nil {
		f.by, f.of = map[quota.Spot]*fresh{}, map[string]int{}
	}
	if f.by[spot] != nil || len(f.by) >= maxFresh || f.of[one.owner] >= maxFreshOf {
		return false
	}
	f.by[spot] = one
	f.of[one.owner]++
	f.count.Add(1)
	one.timer = time.AfterFunc(time.Until(until), func() { f.lapse(spot, one) })
	return true
}

// forget lets go of one. The caller holds mu.
func (f *Fresh) forget(spot quota.Spot, one *fresh) {
	one.timer.Stop()
	delete(f.by, spot)
	if f.of[one.owner]--; f.of[one.owner] == 0 {
		delete(f.of, one.owner)
	}
	f.count.Add(-1)
}

func (f *Fresh) lapse(spot quota.Spot, one *fresh) {
	f.mu.Lock()
	mine := f.by[spot] == one
	if mine {
		f.forget(spot, one)
	}
	f.mu.Unlock()
	if mine {
		one.end(true)
	}
}

// over ends all that lie at a spot or below it: something else is done with them.
func (f *Fresh) over(spot quota.Spot) {
	if f == nil || f.count.Load() == 0 {
		return
	}
	f.mu.Lock()
	var ended []*fresh
	for at, one := range f.by {
		if at.Within(spot) {
			f.forget(at, one)
			ended = append(ended, one)
		}
	}
	f.mu.Unlock()
	for _, one := range ended {
		one.end(true)
	}
}

// Close ends all.
func (f *Fresh) Close() {
	f.mu.Lock()
	all := f.by
	f.by, f.of = nil, nil
	f.count.Store(0)
	f.mu.Unlock()
	for _, one := range all {
		one.timer.Stop()
		one.end(true)
	}
}

// mine is the one at a place, if this session's account may fill it. The caller holds mu.
func (f *Fresh) mine(t *Tree, p *place) *fresh {
	one := f.by[p.named()]
	if one == nil || one.owner != t.owner() || p.seen == nil || p.seen.Size() != 0 || !store.Same(p.seen, one.info) {
		return nil
	}
	return one
}

// fills reports whether what is at a place is to be filled by this session's account.
func (t *Tree) fills(p *place) bool {
	f := t.fresh
	if f == nil || f.count.Load() == 0 {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.mine(t, p) != nil
}

// mayFill decides on a file that is to be filled, which takes no more than making it did.
func (t *Tree) mayFill(p *place) bool { return t.may(keep.Upload, p.path) == nil && t.fills(p) }

// filling has what is at a place be filled now: the record of what comes is the file's. The caller has decided that it may.
func (t *Tree) filling(p *place) (told func(keep.AuditRecord) error, err error) {
	f := t.fresh
	if f == nil || f.count.Load() == 0 {
		return nil, nil
	}
	f.mu.Lock()
	one := f.mine(t, p)
	if one == nil {
		f.mu.Unlock()
		f.over(p.named())
		return nil, nil
	}
	told, one.told = one.told, nil
	end := one.end
	one.end = func(bool) error { return nil } // it may be tried again, until its time is over
	f.mu.Unlock()
	return told, end(false)
}

// Extend gives an empty file that the account has just made over this session's protocol another time in which it may be filled: a
// lock's, say, or with the zero time a short while from now on.
func (t *Tree) Extend(spot quota.Spot, until time.Time) {
	f := t.fresh
	if f == nil {
		return
	}
	if until.IsZero() {
		until = time.Now().Add(fillTime)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if one := f.by[spot]; one != nil && one.owner == t.owner() {
		one.timer.Reset(time.Until(until))
	}
}

// leaveFresh has an empty file that was just made wait to be filled; false when it is to be ended at once. r is its record.
func (f *File) leaveFresh(r keep.AuditRecord) bool {
	t := f.t
	defer t.deed(f.path)()
	p, err := t.resolve(f.path, true, keep.Upload)
	if err != nil {
		return false
	}
	defer p.close()
	if p.err != nil || p.seen.Size() != 0 {
		return false
	}
	one := &fresh{owner: t.owner(), info: p.seen, told: f.recorded}
	one.end = func(whole bool) (err error) {
		if f.wrote != nil {
			err = f.wrote(came(whole), 0, emptyHash)
		}
		if !whole {
			return err
		}
		if f.wrote != nil && err == nil {
			r.Held = true
		}
		return errors.Join(err, f.recorded(r))
	}
	return t.fresh.add(p.named(), one, time.Now().Add(fillTime))
}

// emptyHash is the SHA-256 of nothing.
const emptyHash = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
