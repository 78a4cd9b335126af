package sso

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"net/url"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

const (
	// maxBrought bounds what a browser brings from a provider, bytes; it comes in base64.
	maxBrought = 2 * keep.MaxSAML
)

// Server answers below [keep.SSOPrefix].
type Server struct {
	Face     func(state string) (keep.Face, bool)                             // whose page sent a browser away
	Posted   func(ctx context.Context, state string, answer url.Values)       // takes what a page of the provider has it bring
	Describe func(ctx context.Context, source, origin string) ([]byte, error) // what a provider reads about the service
	Back     map[keep.Face]http.HandlerFunc                                   // ends what began there
	Told     func(r *http.Request) (encrypted bool)                           // how a request came
	Log      *slog.Logger
}

var errOver = &exchange.Problem{Status: http.StatusBadRequest, Say: "this sign-in took too long, or was answered already: go back to where you began it"}

// Handler makes the HTTP handler.
func (s *Server) Handler() http.Handler {
	mux := http.NewServeMux()
	for route, do := range map[string]func(http.ResponseWriter, *http.Request) error{
		"GET " + keep.SSOBack:                         s.back,
		"POST " + keep.SSOBack:                        s.posted,
		"GET " + keep.SSOPrefix + "{source}/metadata": s.metadata,
		keep.SSOPrefix: func(http.ResponseWriter, *http.Request) error {
			return &exchange.Problem{Status: http.StatusNotFound, Say: "nothing is at this address"}
		},
	} {
		mux.HandleFunc(route, func(w http.ResponseWriter, r *http.Request) {
			h := w.Header()
			h.Set("Cache-Control", "no-store")
			h.Set("X-Content-Type-Options", "nosniff")
			h.Set("Referrer-Policy", "no-referrer")
			h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
			if err := do(w, r); err != nil {
				exchange.Refuse(w, r, err, s.Log)
			}
		})
	}
	return mux
}

// back has the page that sent a browser away end what it began.
func (s *Server) back(w http.ResponseWriter, r *http.Request) error {
	face, known := s.Face(r.URL.Query().Get("state"))
	if !known || s.Back[face] == nil {
		return errOver
	}
	s.Back[face](w, r)
	return nil
}

// posted takes what comes from the provider's page, and has the browser come once more by itself: with the request of another
// site it does not show what only it has.
func (s *Server) posted(w http.ResponseWriter, r *http.Request) error {
	if err := exchange.FirstForm(w, r, maxBrought); err != nil {
		return err
	}
	state := r.PostForm.Get("RelayState")
	if _, known := s.Face(state); !known {
		return errOver
	}
	s.Posted(r.Context(), state, r.PostForm)
	http.Redirect(w, r, keep.SSOBack+"?"+url.Values{"state": {state}}.Encode(), http.StatusSeeOther)
	return nil
}

// metadata tells a provider about the service (SAML Metadata 2.0).
func (s *Server) metadata(w http.ResponseWriter, r *http.Request) error {
	text, err := s.Describe(r.Context(), r.PathValue("source"), s.origin(r))
	if errors.Is(err, errors.ErrUnsupported) {
		return &exchange.Problem{Status: http.StatusNotFound, Say: "nothing is at this address"}
	}
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/samlmetadata+xml")
	_, err = w.Write(text)
	return err
}

func (s *Server) origin(r *http.Request) string {
	if s.Told(r) {
		return "https://" + r.Host
	}
	return "http://" + r.Host
}
