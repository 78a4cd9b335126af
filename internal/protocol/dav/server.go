package dav

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// Prefix is where the tree lies.
const Prefix = "/dav/"

const (
	// stayIdle is how long what a client opened is kept for its next request; an account may say less. stayLife bounds it.
	stayIdle, stayLife = 5 * time.Minute, 12 * time.Hour
	// allowed are the methods there are.
	allowed = "OPTIONS, GET, HEAD, PUT, DELETE, PROPFIND, PROPPATCH, MKCOL, COPY, MOVE, LOCK, UNLOCK"
)

// Keeper lets account holders in.
type Keeper interface {
	// Arrive opens the visit of somebody. cut ends it from outside.
	Arrive(address string, encrypted bool, cut func(*keep.Fault)) Visit
}

// Spot is where something lies in a store.
type Spot = keep.Spot

// Visit is what one client of an account does, as the house sees it.
type Visit interface {
	// SignIn opens the account's tree, by its password or one of its tokens; until says how long that holds, zero: as
	// the account does. The error is a [keep.Fault].
	SignIn(ctx context.Context, account string, secret keep.Secret) (opened *tree.Tree, until time.Time, err error)
	Named(client string)
	// DeepListing is how much a PROPFIND of infinite depth may tell of.
	DeepListing() int
	// BinOf is where it is noted what of a tree gives way and goes into the account's bin; nil: it has none.
	BinOf(t *tree.Tree) tree.Bin
	exchange.Uploads
	Locks
	Properties
	// SignOut ends the session; why is nil for a plain goodbye.
	SignOut(why *keep.Fault)
}

// Locks are those on what lies in stores.
type Locks interface {
	// LocksOver are the live ones on a spot and on the folders that lead to it, LocksBelow those on what lies below it.
	LocksOver(ctx context.Context, at Spot) ([]keep.Lock, error)
	LocksBelow(ctx context.Context, at Spot) ([]keep.Lock, error)
	// AddLock makes one of the account, if clash says that it may lie beside those that are there by then.
	AddLock(ctx context.Context, l keep.Lock, clash func(over, below []keep.Lock) error) error
	RefreshLock(ctx context.Context, token string, expires time.Time) error
	DropLock(ctx context.Context, token string) error
}

// Properties are the dead ones of what lies in stores.
type Properties interface {
	// DeadProperties are those of a spot, and of what is right in it, by the path in the store.
	DeadProperties(ctx context.Context, at Spot, inside bool) (map[string][]keep.Property, error)
	SetProperties(ctx context.Context, at Spot, set, remove []keep.Property) error
	// Copied gives a copy, and all below it, the properties of what it is one of, instead of any that it had.
	Copied(ctx context.Context, from, to Spot) error
}

// Server answers WebDAV clients.
type Server struct {
	Keeper Keeper
	Told   func(r *http.Request) (encrypted bool) // how a request came
	Log    *slog.Logger

	stays exchange.Stays[*stay]
	files exchange.Files
}

// stay is one client of an account: its requests share a session.
type stay struct {
	*exchange.Stay
	visit   Visit
	account string
}

// Prepare makes it ready to answer.
func (s *Server) Prepare() { s.files = exchange.Files{Log: s.Log} }

// Close ends every stay.
func (s *Server) Close() { s.stays.EndAll(keep.Refuse(keep.Stopping, "the service is stopping")) }

// status is an error that is one.
func status(code int, say string) error { return &exchange.Problem{Status: code, Say: say} }

var errMethod = status(http.StatusMethodNotAllowed, "use one of "+allowed)

// ServeHTTP answers a request below [Prefix].
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Cache-Control", "no-cache, private")
	h.Set("Referrer-Policy", "no-referrer")
	if err := s.answer(w, r); err != nil {
		s.refuse(w, r, err)
	}
}

func (s *Server) refuse(w http.ResponseWriter, r *http.Request, err error) {
	var fault *keep.Fault
	var plain *exchange.Problem
	if held := (*locked)(nil); errors.As(err, &held) {
		held.answer(w)
		return
	}
	code, say := http.StatusInternalServerError, "the service failed; its log says why"
	switch {
	case errors.As(err, &plain):
		code, say = plain.Status, plain.Say
	default:
		fault = keep.FaultOf(err)
		if code = exchange.StatusOf(fault.Reason); code != http.StatusInternalServerError {
			say = fault.Say
		}
		switch fault.Reason {
		case keep.AlreadyThere, keep.IsAFolder:
			code = http.StatusMethodNotAllowed
		case keep.MustChange:
			code = http.StatusForbidden
		}
	}
	if code == http.StatusInternalServerError && r.Context().Err() == nil {
		s.Log.Error("WebDAV request failed", "method", r.Method, "cause", err, "root", errors.Unwrap(err))
	}
	if code == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", `Basic realm="files", charset="UTF-8"`)
	}
	if code == http.StatusMethodNotAllowed {
		w.Header().Set("Allow", allowed)
	}
	w.Header().Del("Content-Disposition")
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(code)
	if r.Method != http.MethodHead {
		w.Write([]byte(say + "\n"))
	}
}

// answer finds who asks and does what is asked. What is done for them ends with their stay.
func (s *Server) answer(w http.ResponseWriter, r *http.Request) error {
	if r.Method == http.MethodOptions {
		if _, _, signs := r.BasicAuth(); signs { // without, it is told what there is; with, whether that holds
			_, leave, err := s.whoAsks(r)
			if err != nil {
				return err
			}
			leave()
		}
		h := w.Header()
		h.Set("DAV", "1, 2, 3")
		h.Set("Allow", allowed)
		h.Set("MS-Author-Via", "DAV") // Windows asks for it before it writes
		w.WriteHeader(http.StatusOK)
		return nil
	}
	one, leave, err := s.whoAsks(r)
	if err != nil {
		return err
	}
	defer leave()
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	defer context.AfterFunc(one.Context(), cancel)()
	err = s.do(w, r.WithContext(ctx), one)
	if cut, ok := context.Cause(one.Context()).(*keep.Fault); ok && err != nil {
		return cut
	}
	return err
}

var errWho = status(http.StatusUnauthorized, "sign in with the account and its password")

// whoAsks keeps the requests of one client together: by account, secret, address and what it calls itself.
func (s *Server) whoAsks(r *http.Request) (*stay, func(), error) {
	account, password, given := r.BasicAuth()
	if !given || account == "" {
		return nil, nil, errWho
	}
	address := exchange.AddressOf(r)
	key := keep.Secret(strings.Join([]string{account, password, address, r.UserAgent()}, "\x00"))
	for {
		if one, leave, in := s.stays.Enter(key, address); in {
			return one, leave, nil
		}
		one := &stay{Stay: exchange.Arrive(r)}
		one.visit = s.Keeper.Arrive(one.Address, s.Told(r), func(why *keep.Fault) { one.Cancel(why) })
		one.visit.Named(one.Client)
		opened, until, err := one.visit.SignIn(r.Context(), account, keep.Secret(password))
		if err != nil {
			one.Cancel(nil)
			one.visit.SignOut(nil)
			return nil, nil, err
		}
		one.Until = time.Now().Add(stayLife)
		if !until.IsZero() && until.Before(one.Until) {
			one.Until = until
		}
		one.account, one.Tree, one.Uploads, one.Leave = opened.Account(), opened, one.visit, one.visit.SignOut
		one.Idle = func() time.Duration { return one.Tree.Idle(stayIdle) }
		one.Stalled = func() error { return exchange.Goodbye{} }
		one.Settle()
		if s.stays.Keep(one, key) != one { // another request of the client was quicker
			one.Cancel(exchange.Goodbye{})
			one.End()
		}
	}
}

// pathOf is the place in the tree that an address names, and whether it is written as that of a folder.
func pathOf(at string) (clean string, folder bool, err error) {
	rest, in := strings.CutPrefix(at, strings.TrimSuffix(Prefix, "/"))
	if !in || rest != "" && rest[0] != '/' {
		return "", false, status(http.StatusNotFound, "nothing is at this address")
	}
	clean, err = exchange.PathOf("/" + rest)
	return clean, strings.HasSuffix(rest, "/"), err
}

// href is the address of a path.
func href(at string, folder bool) string {
	parts := strings.Split(strings.TrimPrefix(at, "/"), "/")
	for i, part := range parts {
		parts[i] = url.PathEscape(part)
	}
	text := Prefix + strings.Join(parts, "/")
	if folder && !strings.HasSuffix(text, "/") {
		text += "/"
	}
	return text
}

func (s *Server) do(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, folder, err := pathOf(r.URL.Path)
	if err != nil {
		return err
	}
	c := &call{s: s, w: w, r: r, one: one, at: at, folder: folder}
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		return c.get()
	case http.MethodPut:
		return c.put()
	case http.MethodDelete:
		return c.delete()
	case "MKCOL":
		return c.mkcol()
	case "COPY", "MOVE":
		return c.copyOrMove()
	case "PROPFIND":
		return c.propfind()
	case "PROPPATCH":
		return c.proppatch()
	case "LOCK":
		return c.lock()
	case "UNLOCK":
		return c.unlock()
	}
	return errMethod
}

// call is one request.
type call struct {
	s      *Server
	w      http.ResponseWriter
	r      *http.Request
	one    *stay
	at     string
	folder bool // the address is written as that of a folder
	tokens []string
}

// missing reports whether nothing is there.
func missing(err error) bool { return err != nil && keep.FaultOf(err).Reason == keep.NotFound }

// there gives the facts of a path; nil for nothing, and for what the account may not see: what is done decides on that.
func (c *call) there(at string) (fs.FileInfo, error) {
	info, err := c.one.Tree.Stat(at)
	if err != nil && (missing(err) || keep.FaultOf(err).Reason == keep.NoRight) {
		return nil, nil
	}
	return info, err
}

// thereItself is there, of a link its own.
func (c *call) thereItself(at string) (fs.FileInfo, error) {
	info, err := c.one.Tree.Lstat(at)
	if err != nil && (missing(err) || keep.FaultOf(err).Reason == keep.NoRight) {
		return nil, nil
	}
	return info, err
}

func (c *call) get() error {
	info, err := c.one.Tree.Stat(c.at)
	if err != nil {
		return err
	}
	if err := c.conditions(info); err != nil {
		return err
	}
	if info.IsDir() && c.r.Method == http.MethodHead { // clients ask so whether it is there
		c.w.Header().Set("Last-Modified", info.ModTime().UTC().Format(http.TimeFormat))
		return nil
	}
	if info.IsDir() {
		return status(http.StatusMethodNotAllowed, "that is a folder: list it with PROPFIND")
	}
	return c.s.files.Send(c.w, c.r, c.one.Stay, c.at, exchange.Saved)
}

// put writes a file, which is there when all of it has come.
func (c *call) put() error {
	info, err := c.there(c.at)
	if err != nil {
		return err
	}
	if c.folder || info != nil && info.IsDir() {
		return status(http.StatusMethodNotAllowed, "that is the address of a folder")
	}
	if err := c.mayChange(info, info == nil); err != nil {
		return err
	}
	if err := c.parent(c.at); err != nil {
		return err
	}
	if info == nil && c.r.ContentLength == 0 {
		done, err := c.putNothing()
		if done || err != nil {
			return err
		}
	}
	if _, err := c.s.files.Put(c.w, c.r, c.one.Stay, c.at); err != nil {
		return err
	}
	if now, err := c.one.Tree.Stat(c.at); err == nil {
		c.w.Header().Set("ETag", c.one.Tree.Tag(now))
	}
	c.w.WriteHeader(created(info))
	return nil
}

// putNothing makes an empty file, which may be filled next; false when something has the name.
func (c *call) putNothing() (done bool, err error) {
	f, err := c.one.Tree.Open(c.at, tree.OpenMode{Write: true, Create: true, Exclusive: true, Unfilled: true})
	if fault := (*keep.Fault)(nil); errors.As(err, &fault) && fault.Reason == keep.AlreadyThere {
		return false, nil
	}
	if err == nil {
		err = f.Close()
	}
	if err != nil {
		return false, err
	}
	if now, err := c.one.Tree.Stat(c.at); err == nil {
		c.w.Header().Set("ETag", c.one.Tree.Tag(now))
	}
	c.w.WriteHeader(http.StatusCreated)
	return true, nil
}

// created is the status for what is there now, by what was before.
func created(before fs.FileInfo) int {
	if before == nil {
		return http.StatusCreated
	}
	return http.StatusNoContent
}

// parent refuses what would lie in no folder: 409 (RFC 4918, sections 9.3.1 and 9.7.1).
func (c *call) parent(at string) error {
	info, err := c.one.Tree.Stat(path.Dir(at))
	if missing(err) || err == nil && !info.IsDir() {
		return status(http.StatusConflict, "the folder in which it is to lie is not there")
	}
	return nil // what may not be seen is decided when it is done
}

func (c *call) mkcol() error {
	if c.r.ContentLength != 0 {
		return status(http.StatusUnsupportedMediaType, "MKCOL takes no body here")
	}
	info, err := c.there(c.at)
	if err != nil {
		return err
	}
	if info != nil {
		return status(http.StatusMethodNotAllowed, "something of that name is there")
	}
	if err := c.mayChange(info, true); err != nil {
		return err
	}
	if err := c.parent(c.at); err != nil {
		return err
	}
	if err := c.one.Tree.Mkdir(c.at, nil); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusCreated)
	return nil
}
