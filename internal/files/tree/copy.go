package tree

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"path"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

var errLoop = keep.Refuse(keep.BadRequest, "a link in the folder leads back to a folder in which it lies: it has no end")

// Copy copies what a path leads to, with all that is in it as the account sees it: each file is a download and an upload, measured
// and recorded as such. All of it is decided before anything moves: when some of it may not, the error is [Refusals], and nothing
// has changed. It is made out of sight and appears whole; what gives way to it goes then. replaced says that something has.
func (t *Tree) Copy(ctx context.Context, from, to string, how Taking) (replaced bool, err error) {
	c, err := t.planCopy(ctx, from, to, how)
	if err != nil {
		t.noteRefused(keep.Uploading, to, "", err)
		return false, shown(err)
	}
	defer c.close()
	if c.inPlace {
		err = c.copy(ctx, t, t)
	} else {
		err = c.staged(ctx, t, how, nil)
	}
	return c.old != nil, asFault(err)
}

// shown is an error that may be shown: what of many things was refused, or one fault.
func shown(err error) error {
	if refused := (Refusals)(nil); errors.As(err, &refused) {
		return refused
	}
	return asFault(err)
}

// copying is one copy.
type copying struct {
	from    string // after links
	at      Place  // of it
	info    fs.FileInfo
	dst     place
	old     fs.FileInfo
	shallow bool
	inPlace bool // files are written where they belong
	bytes   int64
	files   int64
	refused Refusals
	n       int
}

func (c *copying) close() { c.dst.close() }

// planCopy decides on a copy.
func (t *Tree) planCopy(ctx context.Context, from, to string, how Taking) (c *copying, err error) {
	c = &copying{shallow: how.Shallow}
	if err := c.find(t, from, to); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			c.close()
			c = nil
		}
	}()
	checked := t.checkAt(c.dst.path) != nil
	_, slow := c.dst.dir.(store.MovesByCopy)
	c.inPlace = checked || slow && plain(c.old, c.info)
	if checked && !plain(c.old, c.info) {
		return c, errCheck
	}
	if c.dst.held != "" {
		return c, errHeld
	}
	if err := cmp.Or(t.mayGiveWay(ctx, &c.dst, c.old, how), keep.CheckNewName(c.dst.spelling()), t.notMount(c.dst.path)); err != nil {
		return c, err
	}
	if len(t.policy.Load().Branches(c.dst.path)) > 0 || c.dst.name == "." {
		return c, errThere
	}
	err = c.each(ctx, t, t.readFolder, func(from, to string, info fs.FileInfo) error {
		if err := t.mayCopy(from, to, info, c.old != nil && to == c.dst.path); err != nil && len(c.refused) < maxRefusals {
			c.refused = append(c.refused, Refusal{map[bool]string{true: from, false: to}[t.May(keep.Upload, to)], info.IsDir(), err})
		}
		if c.files++; !info.IsDir() {
			c.bytes += info.Size()
		}
		return nil
	})
	switch {
	case err != nil:
		return c, err
	case len(c.refused) == 1 && c.n == 1:
		return c, c.refused[0].Err
	case len(c.refused) > 0:
		return c, c.refused
	}
	return c, t.roomFor(&c.dst, c.bytes, c.files)
}

// find looks at both ends.
func (c *copying) find(t *Tree, from, to string) error {
	defer t.deeds(from, to)()
	src, err := t.resolve(from, true, keep.Download)
	if err != nil {
		return err
	}
	defer src.close()
	if c.dst, err = t.resolve(to, false, keep.Upload); err != nil {
		return err
	}
	if src.err != nil { // what may not be seen is not told of
		err = cmp.Or(t.may(keep.Download, src.path), src.err)
	}
	if err == nil {
		c.old, err = c.dst.there()
	}
	if err == nil {
		err = apartFrom(&src, &c.dst, src.seen.IsDir())
	}
	if err == nil && src.held != "" {
		err = errHeld
	}
	if err != nil {
		c.dst.close()
		return err
	}
	c.from, c.info, c.at = src.path, src.seen, Place{src.named(), src.path}
	return nil
}

// mayCopy decides on one file or folder.
func (t *Tree) mayCopy(from, to string, info fs.FileInfo, over bool) error {
	if info.IsDir() {
		return t.may(keep.Mkdir, to)
	}
	right := keep.Upload
	if over {
		right = keep.Overwrite
	}
	return cmp.Or(t.may(keep.Download, from), t.may(right, to), regular(info), t.policy.Load().CheckSize(info.Size()))
}

// roomFor refuses what would not fit at a place.
func (t *Tree) roomFor(dst *place, bytes, files int64) error {
	if err := t.ledger.FitsAll(dst.spot(), bytes, files); err != nil {
		return err
	}
	if space, err := store.SpaceOf(dst.dir); err == nil && space.Bytes > 0 && uint64(bytes) > space.FreeBytes {
		return keep.Refuse(keep.DiskFull, "there is no room for "+keep.SaySize(bytes)+": "+keep.SaySize(int64(space.FreeBytes))+" are free")
	}
	return nil
}

// each does something with each file and folder that is to be copied, as the account sees them: each folder before what is in it,
// links as what they lead to. read opens a folder.
func (c *copying) each(ctx context.Context, t *Tree, read func(string) (*Listing, error), do func(from, to string, info fs.FileInfo) error) error {
	c.n = 1
	if err := do(c.from, c.dst.path, c.info); err != nil || !c.info.IsDir() || c.shallow {
		return err
	}
	return c.inside(ctx, t, c.from, c.dst.path, []keep.Spot{c.at.Spot}, read, do)
}

func (c *copying) inside(ctx context.Context, t *Tree, from, to string, ways []keep.Spot, read func(string) (*Listing, error), do func(from, to string, info fs.FileInfo) error) error {
	if len(ways) > MaxDepth {
		return errDeep
	}
	listing, err := read(from)
	if err != nil {
		return err
	}
	defer listing.Close()
	if len(listing.mine) > 0 {
		return errHeldIn
	}
	for {
		some, err := listing.Next(store.LargeRead)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for _, info := range some {
			if c.n++; c.n > MaxAtOnce {
				return errMany
			}
			if err := ctx.Err(); err != nil {
				return keep.Refuse(keep.ClientGone, "the client left before all was copied")
			}
			name := keep.Spell(info.Name())
			child, at, way := path.Join(from, name), path.Join(to, name), keep.Spot{}
			if info.IsDir() || info.Mode()&fs.ModeSymlink != 0 {
				led, lies, err := t.led(child)
				if err != nil {
					continue // it leads nowhere that the account may see
				}
				if t.holds != nil && !led.IsDir() {
					if _, held := t.holds.Find(lies.Spot.Folder(), path.Base(lies.Spot.Path), t.owner()); held {
						return errHeld
					}
				}
				if child, way = lies.Path, lies.Spot; info.Mode()&fs.ModeSymlink != 0 && led.IsDir() {
					for _, above := range append(ways, c.dst.named()) {
						if above.Within(way) {
							return errLoop
						}
					}
				}
				info = led
			}
			if err := do(child, at, info); err != nil {
				return err
			}
			if info.IsDir() {
				if err := c.inside(ctx, t, child, at, append(ways[:len(ways):len(ways)], way), read, do); err != nil {
					return err
				}
			}
		}
	}
}

// led is what a path leads to, and where that is.
func (t *Tree) led(at string) (fs.FileInfo, Place, error) {
	info, err := t.Stat(at)
	if err != nil {
		return nil, Place{}, err
	}
	lies, err := t.Place(at, true)
	return info, lies, err
}

// staged makes the copy under a hidden name, and then has it take its place. d is the deed of which it is a part; nil: there is
// no other.
func (c *copying) staged(ctx context.Context, from *Tree, how Taking, d *keep.Deed) (err error) {
	t := from
	if d == nil {
		made := t.newDeed(keep.Spot{}, c.dst.named(), c.dst.path)
		d = &made
		defer func() {
			if d.Old == (keep.Spot{}) {
				err = errors.Join(err, t.hangs.Forget(d.ID))
			}
		}()
	}
	stage := c.dst.stage(d.ID)
	d.From, d.Stage = stage.spot(), true
	if err := t.hangs.Begin(*d); err != nil {
		return err
	}
	if err = c.copy(ctx, from, t.unseen(&c.dst, stage.name, "")); err == nil {
		err = c.appear(t, &stage, how, d)
	}
	switch {
	case err != nil && d.Old == (keep.Spot{}) && !d.Done:
		return errors.Join(err, t.takeBack(&c.dst, &stage))
	case err != nil:
		return err
	case d.Old != (keep.Spot{}) && !d.Binned:
		if err := t.gone(context.WithoutCancel(ctx), &c.dst, c.dst.aside(d.ID), "what was copied there took its place"); err != nil {
			return err // the next start does the rest
		}
	}
	d.Old = keep.Spot{}
	return nil
}

// takeBack removes a copy that could not take its place.
func (t *Tree) takeBack(dst, stage *place) error {
	info, err := stage.there()
	if err != nil || info == nil {
		return err
	}
	action := keep.Deleting
	if info.IsDir() {
		action = keep.RemoveDir
	}
	note := func(r *keep.AuditRecord) { r.Detail = "what was copied there was taken back" }
	return t.actNoted(action, dst.path, "", note, func() error {
		return purge(context.Background(), t.ledger, stage.dir, stage.named().Folder(), stage.name, 0)
	})
}

// appear gives a copy its name, in one step where a file takes the place of a file.
func (c *copying) appear(t *Tree, stage *place, how Taking, d *keep.Deed) error {
	done, err := t.alone(stage.path, c.dst.path)
	if err != nil {
		return err
	}
	defer done()
	dst, err := t.resolve(c.dst.path, false, keep.Upload)
	if err != nil {
		return err
	}
	defer dst.close()
	if dst.named() != c.dst.named() || dst.path != c.dst.path {
		return errOther
	}
	old, err := dst.there()
	switch {
	case err != nil:
		return err
	case dst.held != "":
		return errHeld
	case old != nil && c.old == nil:
		return errThere
	case old == nil && c.old != nil, old != nil && old.IsDir() != c.old.IsDir():
		return errOther
	}
	right := keep.Upload
	if c.info.IsDir() {
		right = keep.Mkdir
	} else if old != nil {
		right = keep.Overwrite
	}
	if err := cmp.Or(t.may(right, dst.path), t.mayGiveWay(context.Background(), &dst, old, how)); err != nil {
		return err
	}
	from := dst.stage(d.ID)
	if !plain(old, c.info) {
		return t.swap(&from, &dst, old, how, d)
	}
	err = t.shift(&from, &dst, func() (fs.FileInfo, fs.FileInfo, error) {
		info, err := from.dir.Lookup(from.name)
		if now, looked := dst.dir.Lookup(dst.name); looked == nil {
			if old == nil || !store.Same(now, old) {
				return nil, nil, errOther
			}
			return info, now, err
		}
		return info, nil, err
	}, func() bool { return old != nil })
	if err != nil {
		return err
	}
	d.Done = true
	return cmp.Or(dst.settled(nil), t.hangs.Commit(*d, d.Source == keep.Spot{}))
}

// copy copies what one tree leads to into another, which has the same paths.
func (c *copying) copy(ctx context.Context, t, into *Tree) error {
	return c.each(ctx, t, t.ReadFolder, func(from, to string, info fs.FileInfo) error {
		if info.IsDir() {
			return into.Mkdir(to, nil)
		}
		return t.copyFile(ctx, into, from, to, c.old != nil && into == t && to == c.dst.path)
	})
}

func (t *Tree) copyFile(ctx context.Context, into *Tree, from, to string, over bool) (err error) {
	source, err := t.Open(from, OpenMode{Read: true})
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			source.Abort(err)
		} else {
			err = source.Close()
		}
	}()
	info, err := source.Stat()
	if err != nil {
		return err
	}
	f, err := into.Open(to, OpenMode{Write: true, Create: true, Exclusive: !over, Truncate: over, Total: info.Size()})
	if err != nil {
		return err
	}
	err = f.ReceiveFrom(&whileAsked{ctx, io.NewSectionReader(source, 0, info.Size())}, 0)
	if now, looked := f.Stat(); err == nil && (looked != nil || now.Size() != info.Size()) {
		err = cmp.Or(looked, error(keep.Refuse(keep.Failure, "the file was changed while it was being copied: copy it again")))
	}
	if err != nil {
		f.Abort(err)
		return err
	}
	return f.Close()
}

// whileAsked reads as long as somebody wants it.
type whileAsked struct {
	ctx context.Context
	io.Reader
}

func (a *whileAsked) Read(p []byte) (int, error) {
	if a.ctx.Err() != nil {
		return 0, keep.Refuse(keep.ClientGone, "the client left before the file was whole")
	}
	return a.Reader.Read(p)
}
