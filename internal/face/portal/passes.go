package portal

import (
	"net/http"

	"urbankeep/internal/api"
	"urbankeep/internal/protocol/exchange"
)

func (s *Server) passes(w http.ResponseWriter, r *http.Request, one *stay) error {
	found, err := one.visit.Passes(r.Context())
	if err != nil {
		return err
	}
	return exchange.Write(w, api.Page[api.Pass]{Items: found})
}

func (s *Server) addPass(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PassNew
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	made, err := one.visit.AddPass(r.Context(), s.site(r), ask)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.WriteHeader(http.StatusCreated)
	return exchange.Write(w, made)
}

func (s *Server) endPass(w http.ResponseWriter, r *http.Request, one *stay) error {
	return exchange.DoneWith(w, one.visit.EndPass(r.Context(), r.PathValue("id")))
}

func (s *Server) passUses(w http.ResponseWriter, r *http.Request, one *stay) error {
	found, err := one.visit.PassUses(r.Context(), r.PathValue("id"))
	if err != nil {
		return err
	}
	return exchange.Write(w, api.Page[api.PassUse]{Items: found})
}
