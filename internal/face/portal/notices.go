package portal

import (
	"net/http"

	"urbankeep/internal/api"
	"urbankeep/internal/protocol/exchange"
)

func (s *Server) notices(w http.ResponseWriter, r *http.Request, one *stay) error {
	found, err := one.visit.Notices(r.Context())
	if err != nil {
		return err
	}
	return exchange.Write(w, found)
}

func (s *Server) addNotice(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.OwnNoticeNew
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	return exchange.DoneWith(w, one.visit.AddNotice(r.Context(), ask))
}

func (s *Server) removeNotice(w http.ResponseWriter, r *http.Request, one *stay) error {
	return exchange.DoneWith(w, one.visit.RemoveNotice(r.Context(), r.PathValue("id")))
}
