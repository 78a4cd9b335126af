package portal

import (
	"net/http"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// leaveForSSO sends a browser to a provider of single sign-on.
func (s *Server) leaveForSSO(w http.ResponseWriter, r *http.Request) error {
	var ask api.SSOLeave
	if err := exchange.ReadFirst(w, r, &ask); err != nil {
		return err
	}
	visit := s.passing(r)
	defer visit.SignOut(nil)
	where, browser, err := visit.LeaveForSSO(r.Context(), s.site(r), ask, exchange.Browser(r, s.Told(r)))
	if err != nil {
		return err
	}
	exchange.SendAway(w, s.Told(r), browser)
	return exchange.Write(w, api.SSOGo{URL: where})
}

// Back ends a single sign-on that the portal began, and shows the portal.
func (s *Server) Back(w http.ResponseWriter, r *http.Request) {
	one, _, err := s.admit(w, r, func(visit Visit) (*tree.Tree, []keep.Secret, error) {
		opened, err := visit.BySSO(r.Context(), exchange.Browser(r, s.Told(r)), r.URL.Query())
		return opened, nil, err
	})
	at := "#/"
	switch {
	case err != nil && keep.FaultOf(err).Reason == keep.TooManySessions:
		at = "#too-many-sessions"
	case err != nil:
		at = "#not-signed-in"
	case one == nil:
		at = "#client-let-in"
	}
	http.Redirect(w, r, Prefix+at, http.StatusSeeOther)
}

// link tells of an SFTP client that waits for its holder to sign in with a browser.
func (s *Server) link(w http.ResponseWriter, r *http.Request) error {
	visit := s.passing(r)
	defer visit.SignOut(nil)
	found, err := visit.Link(r.PathValue("code"))
	if err != nil {
		return err
	}
	return exchange.Write(w, found)
}

func (s *Server) denyLink(w http.ResponseWriter, r *http.Request) error {
	visit := s.passing(r)
	defer visit.SignOut(nil)
	if err := visit.DenyLink(r.PathValue("code")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
