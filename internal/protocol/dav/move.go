package dav

import (
	"errors"
	"net/http"
	"net/url"
	"strings"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

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

// whole answers for a deed on what may be many things: 207 (RFC 4918, section 9.6.1) where some of them can't be.
func (c *call) whole(code int, err error) error {
	for _, misplaced := range []error{tree.ErrItself, tree.ErrInto, tree.ErrOver} {
		if errors.Is(err, misplaced) { // RFC 4918, sections 9.8.5 and 9.9.4
			return status(http.StatusForbidden, misplaced.Error())
		}
	}
	refused := tree.Refusals(nil)
	if !errors.As(err, &refused) {
		if err == nil {
			c.w.WriteHeader(code)
		}
		return err
	}
	m := &multistatus{w: c.w}
	for _, one := range refused {
		m.failed(one.Path, one.Folder, codeOf(one.Err))
	}
	return m.end()
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
	if err := c.unlocked(c.at, removed); err != nil {
		return err
	}
	return c.whole(http.StatusNoContent, c.one.Tree.RemoveAll(c.r.Context(), c.at))
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
	if err := c.conditions(info); err != nil {
		return err
	}
	if move {
		if err := c.unlocked(c.at, removed); err != nil {
			return err
		}
	}
	there, err := c.thereItself(to)
	if err != nil {
		return err
	}
	if there != nil && overwrite == "F" {
		return status(http.StatusPreconditionFailed, "something is there, and is not to be overwritten")
	}
	way := changed
	if there == nil {
		way = made
	}
	if err := c.unlocked(to, way|deep); err != nil {
		return err
	}
	if err := c.parent(to); err != nil {
		return err
	}
	how := tree.Taking{Replace: overwrite != "F", Shallow: d == 0, Bin: c.one.visit.BinOf(c.one.Tree)}
	if move {
		_, err = c.one.Tree.Move(c.r.Context(), c.at, to, how)
		return c.whole(created(there), err)
	}
	from, err := c.one.Tree.Place(c.at, true)
	if err != nil {
		return err
	}
	into, err := c.one.Tree.Place(to, false) // before: a link on the way may be what gives way
	if err != nil {
		return err
	}
	if _, err = c.one.Tree.Copy(c.r.Context(), c.at, to, how); err != nil {
		return c.whole(0, err)
	}
	if d != 0 || !info.IsDir() {
		err = c.one.visit.Copied(c.r.Context(), from.Spot, into.Spot)
	}
	return c.whole(created(there), err)
}
