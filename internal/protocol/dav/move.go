package dav

import (
	"errors"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// maxAtOnce bounds the files and folders that one request copies or removes.
const maxAtOnce = 200_000

// deeds are what one request does to many files.
type deeds struct {
	c     *call
	m     *multistatus
	n     int
	fails int
	// replace says that the file that is copied takes the place of one.
	replace bool
}

// failed notes what could not be done; the rest goes on.
func (d *deeds) failed(at string, folder bool, err error) {
	d.fails++
	d.m.failed(at, folder, codeOf(err))
}

// codeOf is the status of what could not be done.
func codeOf(err error) int {
	var plain *exchange.Problem
	if errors.As(err, &plain) {
		return plain.Status
	}
	var fault *keep.Fault
	if errors.As(err, &fault) {
		return exchange.StatusOf(fault.Reason)
	}
	return http.StatusInternalServerError
}

// more counts what is done.
func (d *deeds) more() error {
	if d.n++; d.n > maxAtOnce {
		return keep.Refuse(keep.TooLarge, "that is too much for one request: take a part of it")
	}
	return d.c.r.Context().Err()
}

// end answers: 207 where something failed.
func (d *deeds) end(code int) error {
	if d.fails > 0 {
		return d.m.end()
	}
	d.c.w.WriteHeader(code)
	return nil
}

func (c *call) delete() error {
	info, err := c.one.Tree.Lstat(c.at)
	if err != nil {
		return err
	}
	if info.IsDir() {
		if d, err := depth(c.r, -1); err != nil || d != -1 {
			return status(http.StatusBadRequest, "a folder is deleted with Depth infinity")
		}
	}
	if err := c.conditions(info); err != nil {
		return err
	}
	if err := c.unlocked(c.at, true, true); err != nil {
		return err
	}
	d := &deeds{c: c, m: &multistatus{w: c.w}}
	if _, err := d.remove(c.at, info, 0); err != nil {
		return err
	}
	return d.end(http.StatusNoContent)
}

// remove removes a path with all that is in it. What can't be is noted, unless it is the path that was asked for itself.
func (d *deeds) remove(at string, info fs.FileInfo, level int) (whole bool, err error) {
	if err := d.more(); err != nil {
		return false, err
	}
	spot, spotErr := d.c.one.spot(at)
	whole = true
	if !info.IsDir() {
		err = d.c.one.Tree.Remove(at)
	} else {
		err = d.inside(at, level, func(child string, info fs.FileInfo) error {
			ok, err := d.remove(child, info, level+1)
			whole = whole && ok
			return err
		})
		if err == nil && whole {
			err = d.c.one.Tree.Rmdir(at)
		}
	}
	switch {
	case err == nil && whole && spotErr == nil:
		return true, d.c.one.visit.Gone(d.c.r.Context(), spot, true)
	case err == nil:
		return whole, nil
	case level == 0 || d.c.r.Context().Err() != nil:
		return false, err
	}
	d.failed(at, info.IsDir(), err)
	return false, nil
}

// inside does something with each name in a folder, as they were when it was read.
func (d *deeds) inside(at string, level int, do func(child string, info fs.FileInfo) error) error {
	if level > exchange.MaxDepth {
		return keep.Refuse(keep.BadRequest, "the folders lie too deep in one another")
	}
	listing, err := d.c.one.Tree.ReadFolder(at)
	if err != nil {
		return err
	}
	var found []fs.FileInfo
	err = each(d.c.r.Context(), listing, func(info fs.FileInfo) error {
		if len(found) > maxAtOnce {
			return keep.Refuse(keep.TooLarge, "that is too much for one request: take a part of it")
		}
		found = append(found, info)
		return nil
	})
	listing.Close()
	for _, info := range found {
		if err == nil {
			err = do(path.Join(at, keep.Spell(info.Name())), info)
		}
	}
	return err
}

// destination is where something is to be copied or moved.
func (c *call) destination() (at string, err error) {
	text := c.r.Header.Get("Destination")
	u, err := url.Parse(text)
	if err != nil || text == "" {
		return "", status(http.StatusBadRequest, "say with Destination where to")
	}
	if u.Host != "" && !strings.EqualFold(u.Host, c.r.Host) {
		return "", status(http.StatusBadGateway, "that is another service's")
	}
	if at, _, err = pathOf(u.Path); err != nil {
		return "", status(http.StatusBadGateway, "the destination is not below "+Prefix)
	}
	return at, nil
}

func (c *call) copyOrMove() error {
	move := c.r.Method == "MOVE"
	to, err := c.destination()
	if err != nil {
		return err
	}
	overwrite := c.r.Header.Get("Overwrite")
	if overwrite != "" && overwrite != "T" && overwrite != "F" {
		return status(http.StatusBadRequest, "Overwrite is T or F")
	}
	d, err := depth(c.r, -1)
	if err != nil || d == 1 || move && d == 0 {
		return status(http.StatusBadRequest, "Depth is 0 or infinity; what is moved is moved whole")
	}
	info, err := c.one.Tree.Stat(c.at)
	if err != nil {
		return err
	}
	if c.at == to || keep.Covers(c.at, to) && info.IsDir() || keep.Covers(to, c.at) {
		return status(http.StatusForbidden, "one of them lies in the other")
	}
	if err := c.conditions(info); err != nil {
		return err
	}
	if move {
		if err := c.unlocked(c.at, true, true); err != nil {
			return err
		}
	}
	there, err := c.there(to)
	if err != nil {
		return err
	}
	if there != nil && overwrite == "F" {
		return status(http.StatusPreconditionFailed, "something is there, and is not to be overwritten")
	}
	if err := c.unlocked(to, there == nil, true); err != nil {
		return err
	}
	if err := c.parent(to); err != nil {
		return err
	}
	do := &deeds{c: c, m: &multistatus{w: c.w}}
	from, err := c.one.spot(c.at)
	if err != nil {
		return err
	}
	into, err := c.one.spot(to)
	if err != nil {
		return err
	}
	if there != nil && (there.IsDir() || info.IsDir()) {
		if _, err := do.remove(to, there, 0); err != nil || do.fails > 0 {
			return errors.Join(err, do.end(http.StatusMultiStatus))
		}
	} else if there != nil {
		do.replace = true
		if err := c.one.visit.Gone(c.r.Context(), into, false); err != nil {
			return err
		}
	}
	if move {
		err = c.one.Tree.Rename(c.at, to, there != nil)
		var fault *keep.Fault
		if errors.As(err, &fault) && fault.Reason == keep.AcrossMounts { // then it is a copy, and the end of what was copied
			if err = do.copy(c.at, to, info, -1, 0); err == nil && do.fails == 0 {
				_, err = do.remove(c.at, info, 0)
			}
		}
	} else {
		err = do.copy(c.at, to, info, d, 0)
	}
	if err != nil {
		return err
	}
	if do.fails == 0 {
		if d != 0 || !info.IsDir() {
			err = c.one.visit.Copied(c.r.Context(), from, into)
		}
		if err == nil && move {
			err = c.one.visit.Gone(c.r.Context(), from, true)
		}
		if err != nil {
			return err
		}
	}
	return do.end(created(there))
}

// copy copies a path with all that is in it.
func (d *deeds) copy(from, to string, info fs.FileInfo, deep, level int) error {
	if err := d.more(); err != nil {
		return err
	}
	var err error
	if !info.IsDir() {
		err = d.file(from, to)
	} else if err = d.c.one.Tree.Mkdir(to, nil); err == nil && deep != 0 {
		err = d.inside(from, level, func(child string, info fs.FileInfo) error {
			if info.Mode()&fs.ModeSymlink != 0 {
				followed, err := d.c.one.Tree.Stat(child)
				if err != nil {
					return nil
				}
				info = followed
			}
			return d.copy(child, path.Join(to, path.Base(child)), info, deep, level+1)
		})
	}
	if err == nil || level == 0 || d.c.r.Context().Err() != nil {
		return err
	}
	d.failed(to, info.IsDir(), err)
	return nil
}

// file copies one: a download and an upload, both recorded as such, that appears when it is whole.
func (d *deeds) file(from, to string) error {
	t := d.c.one.Tree
	source, err := t.Open(from, tree.OpenMode{Read: true})
	if err != nil {
		return err
	}
	info, err := source.Stat()
	if err != nil {
		source.Abort(err)
		return err
	}
	err = d.c.s.files.Write(d.c.r.Context(), d.c.one.Stay, to, io.NewSectionReader(source, 0, info.Size()), info.Size(), d.replace)
	if err != nil {
		source.Abort(err)
		return err
	}
	return source.Close()
}
