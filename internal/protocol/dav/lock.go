package dav

import (
	"cmp"
	"crypto/rand"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// newToken is a URI that nobody guesses (RFC 4122, version 4).
func newToken() string {
	var b [16]byte
	rand.Read(b[:])
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// lockLife is how long a client wants its lock to live, within what is given.
func lockLife(r *http.Request) time.Duration {
	for wish := range strings.SplitSeq(r.Header.Get("Timeout"), ",") {
		wish = strings.TrimSpace(wish)
		if strings.EqualFold(wish, "Infinite") {
			return keep.MaxLockTime
		}
		if text, is := strings.CutPrefix(strings.ToLower(wish), "second-"); is {
			if seconds, err := strconv.ParseInt(text, 10, 64); err == nil && seconds > 0 {
				return time.Duration(min(seconds, int64(keep.MaxLockTime/time.Second))) * time.Second
			}
		}
	}
	return keep.LockTime
}

// depth reads the Depth header: 0, 1, or -1 for infinity.
func depth(r *http.Request, usual int) (int, error) {
	switch strings.ToLower(r.Header.Get("Depth")) {
	case "":
		return usual, nil
	case "0":
		return 0, nil
	case "1":
		return 1, nil
	case "infinity":
		return -1, nil
	}
	return 0, status(http.StatusBadRequest, "Depth is 0, 1 or infinity")
}

// changes are the rights of which one must be held to lock something: who may only read keeps nobody from writing.
var changes = []keep.Rights{keep.Overwrite, keep.Upload, keep.Rename, keep.Delete, keep.Mkdir}

func (c *call) lock() error {
	info, err := c.there(c.at)
	if err != nil {
		return err
	}
	asked, err := c.body()
	if err != nil {
		return err
	}
	if err := c.conditions(info); err != nil {
		return err
	}
	lies, err := c.one.Tree.Place(c.at, true)
	if missing(err) {
		err = cmp.Or(c.parent(c.at), err) // RFC 4918, section 9.10.4
	}
	if err != nil {
		return err
	}
	spot := lies.Spot
	if asked == nil {
		return c.refresh(spot)
	}
	d, err := depth(c.r, -1)
	if err != nil || d == 1 {
		return status(http.StatusBadRequest, "a lock has Depth 0 or infinity")
	}
	l, err := lockAsked(asked)
	if err != nil {
		return err
	}
	if err := c.mayLock(lies, info != nil && info.IsDir()); err != nil {
		return err
	}
	if info == nil {
		if err := c.unlocked(c.at, made); err != nil {
			return err
		}
		if err := c.parent(c.at); err != nil {
			return err
		}
		f, err := c.one.Tree.Open(c.at, tree.OpenMode{Write: true, Create: true, Exclusive: true, Unfilled: true})
		if err == nil {
			err = f.Close()
		}
		if err != nil {
			return err
		}
	}
	now := time.Now()
	l.Token, l.Store, l.Path, l.Deep, l.Created, l.Expires = newToken(), spot.Store, spot.Path, d != 0, now, now.Add(lockLife(c.r))
	err = c.one.visit.AddLock(c.r.Context(), l, func(over, below []keep.Lock) error {
		there := covering(over, spot)
		if l.Deep {
			there = append(there, below...)
		}
		if slices.ContainsFunc(there, func(other keep.Lock) bool { return !l.Shared || !other.Shared }) {
			return &locked{at: c.at, folder: c.folder}
		}
		return nil
	})
	if err != nil {
		return err
	}
	l.Account = c.one.account
	c.one.Tree.Extend(spot, l.Expires)
	c.w.Header().Set("Lock-Token", "<"+l.Token+">")
	code := http.StatusOK
	if info == nil {
		code = http.StatusCreated
	}
	return c.discovery(code, []keep.Lock{l})
}

// mayLock refuses locks, and their ends, to who may change nothing where they lie.
func (c *call) mayLock(lies tree.Place, folder bool) error {
	in := lies.Path
	if folder {
		in = path.Join(in, "x")
	}
	if !slices.ContainsFunc(changes, func(right keep.Rights) bool { return c.one.Tree.May(right, in) }) {
		return c.one.Tree.Why(keep.Overwrite, in)
	}
	return nil
}

// lockAsked reads what kind of lock is asked for.
func lockAsked(asked *element) (l keep.Lock, err error) {
	bad := status(http.StatusBadRequest, "the body is no lockinfo (RFC 4918, section 14.11)")
	if asked.space != davSpace || asked.name != "lockinfo" {
		return l, bad
	}
	scope, kind := asked.child("lockscope"), asked.child("locktype")
	if scope == nil || kind == nil || kind.child("write") == nil || scope.child("exclusive") == nil && scope.child("shared") == nil {
		return l, bad
	}
	l.Shared = scope.child("shared") != nil
	if owner := asked.child("owner"); owner != nil {
		var text strings.Builder
		owner.write(&text)
		if text.Len() > keep.MaxLockOwner {
			return l, status(http.StatusRequestEntityTooLarge, "the owner of the lock is too long")
		}
		l.Owner = text.String()
	}
	return l, nil
}

// refresh gives locks another end that hold for a spot and whose tokens are shown.
func (c *call) refresh(at Spot) error {
	over, err := c.one.visit.LocksOver(c.r.Context(), at)
	if err != nil {
		return err
	}
	var mine []keep.Lock
	for _, l := range covering(over, at) {
		if l.Account == c.one.account && slices.Contains(c.tokens, l.Token) {
			mine = append(mine, l)
		}
	}
	if len(mine) == 0 {
		return status(http.StatusPreconditionFailed, "show in If the token of the lock that is to live longer")
	}
	for i := range mine {
		mine[i].Expires = time.Now().Add(lockLife(c.r))
		if err := c.one.visit.RefreshLock(c.r.Context(), mine[i].Token, mine[i].Expires); err != nil {
			return err
		}
		c.one.Tree.Extend(at, mine[i].Expires)
	}
	return c.discovery(http.StatusOK, mine)
}

func (c *call) discovery(code int, locks []keep.Lock) error {
	c.w.Header().Set("Content-Type", xmlType)
	c.w.WriteHeader(code)
	_, err := c.w.Write([]byte(xml1 + `<d:prop xmlns:d="DAV:"><d:lockdiscovery>` + activeLocks(c.one, locks) + `</d:lockdiscovery></d:prop>`))
	_ = err // who asked has left
	return nil
}

func (c *call) unlock() error {
	token := strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(c.r.Header.Get("Lock-Token")), "<"), ">")
	if token == "" {
		return status(http.StatusBadRequest, "say with Lock-Token which lock")
	}
	lies, err := c.one.Tree.Place(c.at, true)
	if err != nil {
		return err
	}
	info, err := c.there(c.at)
	if err == nil {
		err = c.mayLock(lies, info != nil && info.IsDir())
	}
	if err != nil {
		return err
	}
	over, err := c.one.visit.LocksOver(c.r.Context(), lies.Spot)
	if err != nil {
		return err
	}
	for _, l := range covering(over, lies.Spot) {
		if l.Token != token {
			continue
		}
		if l.Account != c.one.account {
			return status(http.StatusForbidden, "the lock is another account's: an operator can break it")
		}
		if err := c.one.visit.DropLock(c.r.Context(), token); err != nil {
			return err
		}
		c.one.Tree.Extend(lies.Spot, time.Time{})
		c.w.WriteHeader(http.StatusNoContent)
		return nil
	}
	return status(http.StatusConflict, "no lock with that token holds here")
}
