package pass

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// Prefix is where passes lie: the secret of one follows it.
const Prefix = "/pass/"

const (
	assetsPrefix = Prefix + "assets/"
	cookieName   = "urbankeep-pass"
	// visitIdle is how long a visitor may ask for nothing; newIdle is that of who has not shown the cookie yet, which
	// programs never do.
	visitIdle, newIdle = 30 * time.Minute, time.Minute
	// visitLife bounds a visit.
	visitLife = 12 * time.Hour
)

// Keeper lets visitors in.
type Keeper interface {
	// Arrive opens the visit of somebody. cut ends it from outside.
	Arrive(address string, encrypted bool, cut func(*keep.Fault)) Visit
}

// Visit is one visit with a pass, as the house sees it.
type Visit interface {
	// Enter opens what the pass with a secret gives of its account's tree. The error is a [keep.Fault]; its reason is
	// [keep.PasswordToo] where the pass asks for a password.
	Enter(ctx context.Context, secret, password keep.Secret) (opened *tree.Tree, p keep.Pass, err error)
	// Left is how many bytes may still be moved; -1: any number.
	Left() int64
	// Usable says why nothing can be moved any more; nil: something can.
	Usable(ctx context.Context) error
	// Tell notes what the visitor says of themselves.
	Tell(ctx context.Context, name, mail, message string) error
	Named(client string)
	exchange.Uploads
	// SignOut ends the visit; why is nil for a plain goodbye.
	SignOut(why *keep.Fault)
}

// Server answers whoever has a link.
type Server struct {
	Keeper Keeper
	Name   func(r *http.Request) (name, banner string) // whose service it is, and what the listener says first
	Told   func(r *http.Request) (encrypted bool)      // how a request came
	Assets http.Handler                                // the scripts and looks of the page
	Log    *slog.Logger

	visits exchange.Stays[*visitor]
	files  exchange.Files
	mux    *http.ServeMux
}

// visitor is somebody who is in with a pass.
type visitor struct {
	*exchange.Stay
	visit  Visit
	pass   keep.Pass
	secret keep.Secret
	known  atomic.Bool // the cookie was shown
	drops  drops
}

// Prepare makes it ready to answer.
func (s *Server) Prepare() {
	s.files = exchange.Files{KeepBoth: true, UploadsAt: func(r *http.Request) string { return Prefix + r.PathValue("secret") + "/uploads/" }, Log: s.Log}
	s.mux = http.NewServeMux()
	s.mux.HandleFunc("GET "+Prefix+"{secret}", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, Prefix+r.PathValue("secret")+"/", http.StatusMovedPermanently)
	})
	for route, do := range map[string]func(http.ResponseWriter, *http.Request, *visitor) error{
		"GET {$}":              s.page,
		"GET zip":              s.archive,
		"GET tar":              s.archive,
		"GET {item}/{path...}": s.item,
		"PUT {name}":           s.put,
		"POST told":            s.tell,
		"POST uploads":         s.createUpload,
		"HEAD uploads/{id}":    carried(s.files.HeadUpload),
		"PATCH uploads/{id}":   s.patchUpload,
		"DELETE uploads/{id}":  carried(s.files.DeleteUpload),
	} {
		method, rest, _ := strings.Cut(route, " ")
		s.mux.HandleFunc(method+" "+Prefix+"{secret}/"+rest, s.answer(s.within(do)))
	}
	s.mux.HandleFunc("OPTIONS "+Prefix+"{secret}/uploads", s.answer(s.files.UploadOptions))
	s.mux.HandleFunc("POST "+Prefix+"{secret}/{$}", s.answer(s.post))
}

// Close ends every visit.
func (s *Server) Close() { s.visits.EndAll(keep.Refuse(keep.Stopping, "the service is stopping")) }

// ServeHTTP answers a request below [Prefix].
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer") // the address is the secret
	h.Set("X-Robots-Tag", "noindex")
	if strings.HasPrefix(r.URL.Path, assetsPrefix) {
		s.Assets.ServeHTTP(w, r)
		return
	}
	http.NewCrossOriginProtection().Handler(exchange.Overriding(s.mux)).ServeHTTP(w, r)
}

func carried(do func(http.ResponseWriter, *http.Request, *exchange.Stay) error) func(http.ResponseWriter, *http.Request, *visitor) error {
	return func(w http.ResponseWriter, r *http.Request, one *visitor) error { return do(w, r, one.Stay) }
}

// answer shows an error as whoever asks reads it: as a page, as a line, or as a problem.
func (s *Server) answer(do func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		err := do(w, r)
		if err == nil {
			return
		}
		status, say := s.say(r, err)
		var fault *keep.Fault
		asks := errors.As(err, &fault) && (fault.Reason == keep.PasswordToo || fault.Reason == keep.BadCredentials)
		switch {
		case r.Header.Get("Tus-Resumable") != "" || r.Header.Get("Content-Type") == "application/json":
			exchange.Refuse(w, r, err, s.Log)
		case isBrowser(r):
			s.trouble(w, r, status, say, asks)
		default:
			if asks {
				w.Header().Set("WWW-Authenticate", `Basic realm="this link", charset="UTF-8"`)
			}
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			w.WriteHeader(status)
			io.WriteString(w, say+"\n")
		}
	}
}

// say is what a visitor hears of an error: nothing of the account's rights.
func (s *Server) say(r *http.Request, err error) (status int, say string) {
	var fault *keep.Fault
	var problem *exchange.Problem
	var field *keep.FieldError
	switch {
	case errors.As(err, &problem):
		return problem.Status, problem.Say
	case errors.As(err, &field):
		return http.StatusUnprocessableEntity, field.Say
	case errors.As(err, &fault):
		switch status := exchange.StatusOf(fault.Reason); fault.Reason {
		case keep.Expired:
			return http.StatusGone, fault.Say
		case keep.PasswordToo:
			return http.StatusUnauthorized, fault.Say
		case keep.NoRight, keep.ReadOnlyMount:
			return status, "this link does not give that, or not any more"
		default:
			if status != http.StatusInternalServerError {
				return status, fault.Say
			}
		}
	}
	if r.Context().Err() == nil {
		s.Log.Error("request with a pass failed", "cause", err, "root", errors.Unwrap(err))
	}
	return http.StatusInternalServerError, "the service failed: try again later"
}

// isBrowser reports whether somebody reads pages, of whatever age the program is.
func isBrowser(r *http.Request) bool { return strings.Contains(r.Header.Get("Accept"), "text/html") }

// within finds the visit of a request: by its cookie, else by the link itself, for programs that keep none.
func (s *Server) within(do func(http.ResponseWriter, *http.Request, *visitor) error) func(http.ResponseWriter, *http.Request) error {
	return func(w http.ResponseWriter, r *http.Request) error {
		secret := keep.Secret(r.PathValue("secret"))
		if cookie, err := r.Cookie(cookieName); err == nil {
			if one, leave, in := s.visits.Enter(keep.Secret(cookie.Value), exchange.AddressOf(r)); in {
				if one.secret == secret {
					one.known.Store(true)
					return s.with(w, r, one, leave, do)
				}
				leave()
			}
		}
		_, password, _ := r.BasicAuth()
		if r.Method == http.MethodGet && r.PathValue("path") == "" && isBrowser(r) && password == "" {
			// A page that is opened begins a visit of its own.
			one, err := s.arrive(r, secret, "")
			if err != nil {
				return err
			}
			s.setCookie(w, r, secret, s.visits.Begin(one))
			return s.withNew(w, r, one, do)
		}
		key := keep.Secret(secret.Reveal() + "\x00" + exchange.AddressOf(r) + "\x00" + password)
		for {
			if one, leave, in := s.visits.Enter(key, exchange.AddressOf(r)); in {
				return s.with(w, r, one, leave, do)
			}
			one, err := s.arrive(r, secret, keep.Secret(password))
			if err != nil {
				return err
			}
			if s.visits.Keep(one, key) != one { // another request of the program was quicker
				one.Cancel(exchange.Goodbye{})
				one.End()
			}
		}
	}
}

func (s *Server) withNew(w http.ResponseWriter, r *http.Request, one *visitor, do func(http.ResponseWriter, *http.Request, *visitor) error) error {
	leave, in := one.Hold()
	if !in {
		return keep.Refuse(keep.Expired, "this link has ended")
	}
	return s.with(w, r, one, leave, do)
}

// with answers for a visitor. What is done for them ends with their visit.
func (s *Server) with(w http.ResponseWriter, r *http.Request, one *visitor, leave func(), do func(http.ResponseWriter, *http.Request, *visitor) error) error {
	defer leave()
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	defer context.AfterFunc(one.Context(), cancel)()
	err := do(w, r.WithContext(ctx), one)
	if cut, ok := context.Cause(one.Context()).(*keep.Fault); ok && err != nil {
		return cut
	}
	return err
}

// arrive lets somebody in with a link.
func (s *Server) arrive(r *http.Request, secret, password keep.Secret) (*visitor, error) {
	one := &visitor{Stay: exchange.Arrive(r), secret: secret}
	one.visit = s.Keeper.Arrive(one.Address, s.Told(r), func(why *keep.Fault) { one.Cancel(why) })
	one.visit.Named(one.Client)
	opened, p, err := one.visit.Enter(r.Context(), secret, password)
	if err != nil {
		one.Cancel(nil)
		one.visit.SignOut(nil)
		return nil, err
	}
	one.Tree, one.pass, one.Uploads, one.Leave = opened, p, one.visit, one.visit.SignOut
	one.Until = time.Now().Add(visitLife)
	if p.Expires.Before(one.Until) {
		one.Until = p.Expires
	}
	one.Idle = func() time.Duration {
		if !one.known.Load() {
			return newIdle
		}
		return one.Tree.Idle(visitIdle)
	}
	one.Stalled = func() error { return exchange.Goodbye{} }
	one.Settle()
	return one, nil
}

// setCookie gives a visit its cookie, which no other link sees.
func (s *Server) setCookie(w http.ResponseWriter, r *http.Request, link, visit keep.Secret) {
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: visit.Reveal(), Path: Prefix + link.Reveal() + "/", HttpOnly: true, Secure: s.Told(r), SameSite: http.SameSiteStrictMode})
}
