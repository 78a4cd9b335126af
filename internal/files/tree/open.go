package tree

import (
	"context"
	"crypto/sha256"
	"errors"
	"io/fs"
	"os"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// OpenMode is how a file is to be opened.
type OpenMode struct {
	Read, Write bool
	Append      bool // every write goes to the end
	Create      bool // make the file where there is none
	Exclusive   bool // with Create: refuse a file that is there
	Truncate    bool // empty a file that is there
	Rescan      bool // with Write: what is there may be read to find where to go on; the client gets none of it
	Mode        fs.FileMode
	Offset      int64 // where the client begins, bytes; for the record
	Total       int64 // size the client announced, bytes; 0: unknown
	Unfilled    bool  // with Create: an empty file may be made to be filled next; see [Fresh]
	Part        *Part // the file comes in pieces, or is to appear whole; nil: what is written is there at once
}

// Open opens a file for a transfer. A refusal is recorded at once, everything
// else when the file is closed.
func (t *Tree) Open(at string, mode OpenMode) (*File, error) {
	action := keep.Downloading
	if mode.Write {
		action = keep.Uploading
	}
	started := time.Now()
	var end func(keep.AuditRecord) error
	filled, lies := false, quota.Spot{}
	f, err := t.openFile(at, mode, func(p *place) (err error) {
		if end == nil {
			if err := t.watch.Room(); err != nil {
				return err
			}
			if mode.Write {
				if end, err = t.filling(p); end != nil || err != nil {
					filled, lies = true, p.named()
					return err
				}
			}
			r := t.base(action, at)
			r.Offset = mode.Offset
			end, err = t.trail.Announce(r, p.spot().String())
		}
		return err
	})
	if err != nil && end != nil {
		r, fault := t.notBegun(at, mode, started, err)
		end(r)
		return nil, fault
	}
	if err != nil {
		return nil, t.NotBegun(at, mode, started, err)
	}
	total := mode.Total
	if info, err := f.f.Stat(); err == nil && !mode.Write {
		total = info.Size()
	}
	if total == 0 && mode.Write {
		total = -1
	}
	f.path, f.started, f.recorded, f.filled, f.lies = at, started, end, filled, lies
	f.ending, f.ended = context.WithCancelCause(context.Background())
	f.meter = t.watch.Begin(Transfer{Action: action, Path: at, Offset: mode.Offset, Total: total, Stop: f.stop})
	if mode.Write { // even when nothing comes
		if err := f.Reserve(0); err != nil {
			f.Abort(err)
			return nil, err
		}
	}
	return f, nil
}

// MayOpen says whether Open would be allowed now, and does nothing: for a protocol that
// changes no file before it knows that the bytes will come. A refusal is recorded.
func (t *Tree) MayOpen(at string, mode OpenMode) error {
	defer t.deed(at)()
	started := time.Now()
	p, create, err := t.decide(at, mode)
	if err == nil {
		defer p.close()
		err = t.watch.Room()
	}
	if err == nil {
		held := int64(0)
		if !create && mode.Part == nil { // what a part replaces stays until it is whole
			held = p.seen.Size()
		}
		if mode.Write {
			err = t.ledger.Fits(p.spot(), mode.Total, held)
		}
	}
	if err != nil {
		return t.NotBegun(at, mode, started, err)
	}
	return nil
}

// NotBegun records that a transfer failed before there was a file, and gives the error
// as one that may be shown.
func (t *Tree) NotBegun(at string, mode OpenMode, since time.Time, err error) error {
	r, err := t.notBegun(at, mode, since, err)
	t.trail.Note(r)
	return err
}

func (t *Tree) notBegun(at string, mode OpenMode, since time.Time, err error) (keep.AuditRecord, error) {
	err = asFault(err)
	r := t.base(keep.Downloading, at)
	if mode.Write {
		r.Action = keep.Uploading
	}
	r.Offset, r.Duration = mode.Offset, time.Since(since)
	t.ended(&r, err)
	return r, err
}

// openFile decides and opens; begin is told of the place when it is allowed and not yet done. The right depends on whether the file is there, and the
// opening is bound to what was seen: when that has changed it decides anew.
func (t *Tree) openFile(at string, mode OpenMode, begin func(*place) error) (f *File, err error) {
	defer t.deed(at)()
	for n := range maxSteps {
		f, err = t.openOnce(at, mode, begin)
		if !swapped(err, mode) {
			break
		}
		if n > 3 { // what is being put into its place takes its time
			time.Sleep(min(time.Duration(n)*time.Millisecond, maxPause))
		}
	}
	return f, err
}

// maxPause is how long is waited at the most before a file is opened once more.
const maxPause = 30 * time.Millisecond

// swapped reports whether opening failed because the name was taken, freed or made a link
// after it had been looked at: then the answer is another one by now.
func swapped(err error, mode OpenMode) bool {
	return errors.Is(err, store.ErrLink) || errors.Is(err, errSwapped) || mode.Create && !mode.Exclusive && (errors.Is(err, fs.ErrExist) || errors.Is(err, errVanished))
}

// ErrBehind refuses an upload that would begin behind the end of the file, and leave a hole.
var ErrBehind = keep.Refuse(keep.BadRequest, "the file is shorter than that: begin where it ends, or at 0")

var (
	errSwapped  = errors.New("the file was replaced while it was being opened")
	errVanished = errors.New("the file went while it was being opened")
)

func (t *Tree) openOnce(at string, mode OpenMode, begin func(*place) error) (*File, error) {
	p, create, err := t.decide(at, mode)
	if err != nil {
		return nil, err
	}
	if mode.Part != nil {
		return t.openPart(&p, mode, begin)
	}
	if check := t.checkAt(p.path); mode.Write && (check != nil || p.held != "") {
		return t.openHeld(&p, create, mode, begin, check)
	}
	f := &File{t: t, mode: mode, created: create}
	f.replaces = mode.Write && !create && !mode.Append && mode.Offset == 0 && (mode.Truncate || mode.Create && p.seen.Size() > 0)
	if p.m.hashes && mode.Write && mode.Offset == 0 && (create || mode.Truncate || p.seen.Size() == 0) {
		f.sum = &sum{of: sha256.New()}
	}
	if err = begin(&p); err == nil && create {
		f.f, f.held, err = t.create(&p, mode)
		err = p.full(err)
	} else if err == nil {
		f.f, f.held, err = t.openThere(&p, mode)
	}
	if err == nil && create {
		if info, err := f.f.Stat(); err == nil {
			t.made.add(p.path, info)
		}
	} else if err == nil && mode.Write {
		f.before, _ = store.Changed(p.seen)
		f.dirty.Store(mode.Truncate)
	}
	if err != nil || !mode.Write || !p.m.power {
		p.close()
		return f, err
	}
	f.in = &p // to bring its name to the medium in the end
	return f, nil
}

// decide finds the place of a file that is to be opened, and decides on that by what is
// there: create says that nothing is. The caller must close the place.
func (t *Tree) decide(at string, mode OpenMode) (p place, create bool, err error) {
	wanted := keep.Download
	switch {
	case mode.Write && mode.Create:
		wanted = keep.Upload
	case mode.Write:
		wanted = keep.Overwrite
	}
	if mode.Write {
		if err := t.policy.Load().CheckSize(mode.Total); err != nil {
			return place{}, false, err
		}
	}
	if p, err = t.resolve(at, true, wanted); err != nil {
		return place{}, false, err
	}
	create = errors.Is(p.err, fs.ErrNotExist) && mode.Write && mode.Create
	if create {
		err = t.mayCreate(&p, mode)
	} else {
		err = t.mayOpenThere(&p, mode)
	}
	if err != nil {
		p.close()
	}
	return p, create, err
}

func (t *Tree) mayCreate(p *place, mode OpenMode) error {
	if mode.Read {
		if err := t.may(keep.Download, p.path); err != nil {
			return err
		}
	}
	if err := t.may(keep.Upload, p.path); err != nil {
		return err
	}
	if err := t.notMount(p.path); err != nil {
		return err
	}
	if mode.Offset > 0 && mode.Part == nil {
		return ErrBehind
	}
	return keep.CheckNewName(p.spelling())
}

func (t *Tree) mayOpenThere(p *place, mode OpenMode) error {
	if mode.Read {
		if err := t.may(keep.Download, p.path); err != nil && !t.mayFill(p) { // which has nothing in it
			return err
		}
	}
	fresh := mode.Create && mode.Exclusive // nothing is to be overwritten
	if mode.Write {
		right := keep.Overwrite
		if fresh {
			right = keep.Upload
		}
		if err := t.may(right, p.path); err != nil && (fresh || !t.mayFill(p)) {
			return err
		}
	}
	if p.err != nil {
		return p.err
	}
	if fresh {
		return fs.ErrExist
	}
	if mode.Write && !mode.Rescan && mode.Part == nil && mode.Offset > p.seen.Size() {
		return ErrBehind
	}
	return regular(p.seen)
}

// create makes a file at a place where nothing was.
func (t *Tree) create(p *place, mode OpenMode) (f store.File, held *quota.File, err error) {
	if err := t.ledger.Fits(p.spot(), mode.Total, 0); err != nil {
		return nil, nil, err
	}
	held, err = t.ledger.Open(p.spot(), true, func() (func() (fs.FileInfo, error), error) {
		if f, err = p.dir.Open(p.name, flags(mode)|os.O_CREATE|os.O_EXCL, t.fileMode(p.path, mode.Mode)); err != nil {
			return nil, err
		}
		return f.Stat, nil
	})
	if err != nil && f != nil {
		err = errors.Join(err, f.Close())
	}
	return f, held, err
}

// openThere opens the file that was seen at a place.
func (t *Tree) openThere(p *place, mode OpenMode) (f store.File, held *quota.File, err error) {
	if mode.Write {
		if err := t.ledger.Fits(p.spot(), mode.Total, p.seen.Size()); err != nil {
			return nil, nil, err
		}
	}
	open := func() (func() (fs.FileInfo, error), error) {
		if f, err = p.dir.Open(p.name, flags(mode), 0); err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				err = errors.Join(errVanished, err)
			}
			return nil, err
		}
		info, err := f.Stat()
		if err == nil && !store.Same(info, p.seen) {
			err = errSwapped
		}
		return f.Stat, err
	}
	if mode.Write {
		held, err = t.ledger.Open(p.spot(), false, open)
	} else {
		_, err = open()
	}
	if err == nil && mode.Truncate && mode.Write {
		err = held.Resize(0, func() error { return f.Truncate(0) })
	}
	if err != nil && f != nil {
		held.Close(f.Stat)
		err = errors.Join(err, f.Close())
		f = nil
	}
	return f, held, err
}

func flags(mode OpenMode) int {
	flag := os.O_RDONLY
	switch {
	case mode.Write && (mode.Read || mode.Rescan):
		flag = os.O_RDWR
	case mode.Write:
		flag = os.O_WRONLY
	}
	if mode.Append && mode.Write {
		flag |= os.O_APPEND
	}
	return flag
}

// fileMode is the mode of a new file: what the client asked for, or read and write
// for all if it did not ask, less the umask.
func (t *Tree) fileMode(at string, asked fs.FileMode) fs.FileMode {
	if asked == 0 {
		asked = 0o666
	}
	return t.umask(at).Masks(asked)
}

// umask is the mask for what is made at a path.
func (t *Tree) umask(at string) keep.Mode {
	policy := t.policy.Load()
	return policy.Umask(policy.MountOf(at))
}
