package portal

import (
	"context"
	_ "embed"
	"log/slog"
	"net/http"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/files/picture"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// Prefix is where the portal lies.
const Prefix = "/portal/"

const (
	apiPrefix   = Prefix + "api/v1"
	uploadsPath = apiPrefix + "/uploads"
	filesPrefix = Prefix + "files/"
	cookieName  = "urbankeep-portal"
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
	// ShowsPasses reports whether the listener of a request shows passes too.
	ShowsPasses func(r *http.Request) bool

	Pictures *picture.Artist

	stays exchange.Stays[*stay]
	files exchange.Files
	mux   *http.ServeMux
}

// Prepare makes it ready to answer.
func (s *Server) Prepare() {
	s.mux = http.NewServeMux()
	s.files = exchange.Files{UploadsAt: func(*http.Request) string { return uploadsPath + "/" }, Log: s.Log}
	for route, do := range map[string]func(http.ResponseWriter, *http.Request) error{
		"GET " + apiPrefix + "/door":              s.door,
		"POST " + apiPrefix + "/sign-in":          s.signIn,
		"POST " + apiPrefix + "/password":         s.changePassword,
		"POST " + apiPrefix + "/codes":            s.firstCodes,
		"POST " + apiPrefix + "/passkeys/ask":     s.askPasskey,
		"POST " + apiPrefix + "/passkeys/sign-in": s.signInByPasskey,
		"POST " + apiPrefix + "/sso":              s.leaveForSSO,
		"GET " + apiPrefix + "/links/{code}":      s.link,
		"DELETE " + apiPrefix + "/links/{code}":   s.denyLink,
		"GET " + apiPrefix + "/openapi.yaml": func(w http.ResponseWriter, _ *http.Request) error {
			w.Header().Set("Content-Type", "application/yaml")
			_, err := w.Write(openAPI)
			return err
		},
		"OPTIONS " + uploadsPath: s.files.UploadOptions,
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
		"GET " + uploadsPath:                   carried(s.files.ListUploads),
		"POST " + uploadsPath:                  carried(s.files.CreateUpload),
		"HEAD " + uploadsPath + "/{id}":        carried(s.files.HeadUpload),
		"PATCH " + uploadsPath + "/{id}":       carried(s.files.PatchUpload),
		"DELETE " + uploadsPath + "/{id}":      carried(s.files.DeleteUpload),
		"POST " + uploadsPath + "/{id}/finish": carried(s.files.FinishUpload),
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
func (s *Server) Close() { s.stays.EndAll(keep.Refuse(keep.Stopping, "the service is stopping")) }

// ServeHTTP answers a request below [Prefix]. Requests that another site's page makes in the
// holder's browser change nothing.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	http.NewCrossOriginProtection().Handler(exchange.Overriding(s.mux)).ServeHTTP(w, r)
}

var (
	errSignIn    = &exchange.Problem{Status: http.StatusUnauthorized, Say: "sign in first"}
	errNoAddress = &exchange.Problem{Status: http.StatusNotFound, Say: "nothing is at this address"}
)

// answer turns an error into its problem (RFC 9457).
func (s *Server) answer(do func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		if err := do(w, r); err != nil {
			exchange.Refuse(w, r, err, s.Log)
		}
	}
}

// whoAsks finds the sign-in of a request: by its token, else by its cookie.
func (s *Server) whoAsks(r *http.Request) (*stay, func(), error) {
	if token, is := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); is {
		return s.byToken(r, token)
	}
	if cookie, err := r.Cookie(s.cookie(r)); err == nil {
		if one, leave, in := s.stays.Enter(keep.Secret(cookie.Value), exchange.AddressOf(r)); in {
			return one, leave, nil
		}
	}
	return nil, nil, errSignIn
}

// inPerson refuses scripts what is about the account itself.
func inPerson(do func(http.ResponseWriter, *http.Request, *stay) error) func(http.ResponseWriter, *http.Request, *stay) error {
	return func(w http.ResponseWriter, r *http.Request, one *stay) error {
		if one.script {
			return &exchange.Problem{Status: http.StatusForbidden, Say: "a token is for files: sign in with a browser for this"}
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
		defer context.AfterFunc(one.Context(), cancel)()
		err = do(w, r.WithContext(ctx), one)
		if cut, ok := context.Cause(one.Context()).(*keep.Fault); ok && err != nil {
			return cut
		}
		return err
	}
}

// carried is something that is done with files, for a holder.
func carried(do func(http.ResponseWriter, *http.Request, *exchange.Stay) error) func(http.ResponseWriter, *http.Request, *stay) error {
	return func(w http.ResponseWriter, r *http.Request, one *stay) error { return do(w, r, one.Stay) }
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
