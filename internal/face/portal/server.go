package portal

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/files/picture"
	"urbankeep/internal/keep"
)

// Prefix is where the portal lies.
const Prefix = "/portal/"

const (
	apiPrefix   = Prefix + "api/v1"
	filesPrefix = Prefix + "files/"
	cookieName  = "urbankeep-portal"
	// maxBody bounds a request's JSON, bytes; bodyTime how long it may take to come.
	maxBody  = 1 << 20
	bodyTime = 20 * time.Second
)

//go:embed openapi.yaml
var openAPI []byte

// Server answers account holders.
type Server struct {
	Keeper Keeper
	Door   func(r *http.Request) api.PortalDoor   // what is said before anybody signs in
	Pages  http.Handler                           // the portal's files
	Told   func(r *http.Request) (encrypted bool) // how a request came
	Log    *slog.Logger

	Pictures *picture.Artist

	stays  stays
	pieces pieces
	mux    *http.ServeMux
}

// Prepare makes it ready to answer.
func (s *Server) Prepare() {
	s.mux = http.NewServeMux()
	for route, do := range map[string]func(http.ResponseWriter, *http.Request) error{
		"GET " + apiPrefix + "/door":              s.door,
		"POST " + apiPrefix + "/sign-in":          s.signIn,
		"POST " + apiPrefix + "/password":         s.changePassword,
		"POST " + apiPrefix + "/codes":            s.firstCodes,
		"POST " + apiPrefix + "/passkeys/ask":     s.askPasskey,
		"POST " + apiPrefix + "/passkeys/sign-in": s.signInByPasskey,
		"GET " + apiPrefix + "/openapi.yaml": func(w http.ResponseWriter, _ *http.Request) error {
			w.Header().Set("Content-Type", "application/yaml")
			_, err := w.Write(openAPI)
			return err
		},
		"OPTIONS " + uploadsPath: s.tusOptions,
	} {
		s.mux.HandleFunc(route, s.answer(do))
	}
	for route, do := range map[string]func(http.ResponseWriter, *http.Request, *stay) error{
		"POST " + apiPrefix + "/sign-out":      inPerson(s.signOut),
		"GET " + apiPrefix + "/me":             s.me,
		"GET " + apiPrefix + "/folder":         s.folder,
		"GET " + apiPrefix + "/stat":           s.stat,
		"GET " + apiPrefix + "/search":         s.search,
		"GET " + apiPrefix + "/why":            s.why,
		"POST " + apiPrefix + "/folders":       s.makeFolder,
		"POST " + apiPrefix + "/renames":       s.rename,
		"POST " + apiPrefix + "/copies":        s.copy,
		"POST " + apiPrefix + "/removals":      s.remove,
		"GET " + apiPrefix + "/bin":            inPerson(s.bin),
		"PUT " + apiPrefix + "/bin/{id}":       inPerson(s.putBack),
		"DELETE " + apiPrefix + "/bin/{id}":    inPerson(s.emptyBin),
		"GET " + uploadsPath:                   s.uploads,
		"POST " + uploadsPath:                  s.createUpload,
		"HEAD " + uploadsPath + "/{id}":        s.headUpload,
		"PATCH " + uploadsPath + "/{id}":       s.patchUpload,
		"DELETE " + uploadsPath + "/{id}":      s.deleteUpload,
		"POST " + uploadsPath + "/{id}/finish": s.finishUpload,
		"GET " + Prefix + "zip":                s.archive,
		"GET " + Prefix + "tar":                s.archive,
		"GET " + filesPrefix:                   s.download, // and HEAD
		"PUT " + filesPrefix:                   s.upload,
		"GET " + lookPrefix:                    s.look,
		"GET " + previewPrefix:                 s.preview,
	} {
		s.mux.HandleFunc(route, s.answer(s.signedIn(do)))
	}
	for route, do := range s.accountRoutes() {
		s.mux.HandleFunc(route, s.answer(s.signedIn(inPerson(do))))
	}
	s.mux.HandleFunc(apiPrefix+"/", s.answer(func(http.ResponseWriter, *http.Request) error { return errNoAddress }))
	s.mux.Handle(Prefix, s.Pages)
}

// Close ends every sign-in.
func (s *Server) Close() { s.stays.endAll(keep.Refuse(keep.Stopping, "the service is stopping")) }

// ServeHTTP answers a request below [Prefix]. Requests that another site's page makes in the
// holder's browser change nothing.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	http.NewCrossOriginProtection().Handler(s.mux).ServeHTTP(w, r)
}

// problem is an error that is a status.
type problem struct {
	status int
	say    string
}

func (p *problem) Error() string { return p.say }

var (
	errSignIn    = &problem{http.StatusUnauthorized, "sign in first"}
	errNoAddress = &problem{http.StatusNotFound, "nothing is at this address"}
)

// answer turns an error into its problem (RFC 9457).
func (s *Server) answer(do func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		if err := do(w, r); err != nil {
			s.refuse(w, r, err)
		}
	}
}

func (s *Server) refuse(w http.ResponseWriter, r *http.Request, err error) {
	shown := api.Problem{Type: "about:blank", Status: http.StatusInternalServerError, Detail: "the service failed; its log says why"}
	var field *keep.FieldError
	var fault *keep.Fault
	var plain *problem
	switch {
	case errors.As(err, &field):
		shown.Status, shown.Field, shown.Detail = http.StatusUnprocessableEntity, field.Field, field.Say
	case errors.As(err, &plain):
		shown.Status, shown.Detail = plain.status, plain.say
	case errors.As(err, &fault):
		shown.Status, shown.Detail, shown.Reason = statusOf(fault.Reason), fault.Say, string(fault.Reason)
	}
	if shown.Status == http.StatusInternalServerError && r.Context().Err() == nil {
		s.Log.Error("request failed", "path", r.URL.Path, "cause", err, "root", errors.Unwrap(err))
	}
	shown.Title = http.StatusText(shown.Status)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(shown.Status)
	json.NewEncoder(w).Encode(shown)
}

func statusOf(reason keep.Reason) int {
	switch reason {
	case keep.NotFound:
		return http.StatusNotFound
	case keep.BadCredentials:
		return http.StatusUnauthorized
	case keep.AlreadyThere, keep.BadHash, keep.NotEmpty, keep.NotAFolder, keep.IsAFolder, keep.InUse:
		return http.StatusConflict
	case keep.TooManyAttempts, keep.TooManySessions:
		return http.StatusTooManyRequests
	case keep.TooLarge:
		return http.StatusRequestEntityTooLarge
	case keep.QuotaFull, keep.DiskFull:
		return http.StatusInsufficientStorage
	case keep.StoreAway, keep.Stopping:
		return http.StatusServiceUnavailable
	case keep.BadName, keep.BadRequest:
		return http.StatusBadRequest
	case keep.Failure, keep.TrailUnavailable:
		return http.StatusInternalServerError
	}
	return http.StatusForbidden
}

// whoAsks finds the sign-in of a request: by its token, else by its cookie.
func (s *Server) whoAsks(r *http.Request) (*stay, func(), error) {
	if token, is := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); is {
		return s.byToken(r, token)
	}
	if cookie, err := r.Cookie(s.cookie(r)); err == nil {
		if one, leave := s.stays.enter(keep.Secret(cookie.Value), addressOf(r)); one != nil {
			return one, leave, nil
		}
	}
	return nil, nil, errSignIn
}

// inPerson refuses scripts what is about the account itself.
func inPerson(do func(http.ResponseWriter, *http.Request, *stay) error) func(http.ResponseWriter, *http.Request, *stay) error {
	return func(w http.ResponseWriter, r *http.Request, one *stay) error {
		if one.script {
			return &problem{http.StatusForbidden, "a token is for files: sign in with a browser for this"}
		}
		return do(w, r, one)
	}
}

// signedIn finds who asks. What is done for them ends with their sign-in.
func (s *Server) signedIn(do func(http.ResponseWriter, *http.Request, *stay) error) func(http.ResponseWriter, *http.Request) error {
	return func(w http.ResponseWriter, r *http.Request) error {
		one, leave, err := s.whoAsks(r)
		if err != nil {
			return err
		}
		defer leave()
		ctx, cancel := context.WithCancel(r.Context())
		defer cancel()
		defer context.AfterFunc(one.ctx, cancel)()
		err = do(w, r.WithContext(ctx), one)
		if cut, ok := context.Cause(one.ctx).(*keep.Fault); ok && err != nil {
			return cut
		}
		return err
	}
}

func addressOf(r *http.Request) string {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return at.Addr().Unmap().WithZone("").String()
}

// cookie is the cookie's name: the one for TLS is taken by no page without it.
func (s *Server) cookie(r *http.Request) string {
	if s.Told(r) {
		return "__Host-" + cookieName
	}
	return cookieName
}

func (s *Server) setCookie(w http.ResponseWriter, r *http.Request, value string, age int) {
	http.SetCookie(w, &http.Cookie{Name: s.cookie(r), Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.Told(r), SameSite: http.SameSiteStrictMode})
}

// read reads a request's JSON; unknown fields are refused.
func read(w http.ResponseWriter, r *http.Request, into any) error {
	if kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";"); kind != "application/json" {
		return &problem{http.StatusUnsupportedMediaType, "send the request as application/json"}
	}
	control := http.NewResponseController(w)
	control.SetReadDeadline(time.Now().Add(bodyTime))
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		return &problem{http.StatusBadRequest, "the request is too large, or did not come to its end"}
	}
	control.SetReadDeadline(time.Time{})
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(into); err != nil {
		return &problem{http.StatusBadRequest, "the request is not well-formed: " + strings.TrimPrefix(err.Error(), "json: ")}
	}
	return nil
}

func write(w http.ResponseWriter, value any) error {
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	return json.NewEncoder(w).Encode(value)
}
