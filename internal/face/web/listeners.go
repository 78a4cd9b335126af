package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

func (s *Server) showListener(l keep.Listener) api.Listener {
	shown := api.Listener{Name: l.Name, Protocol: l.Protocol, Address: l.Address, Stopped: l.Stopped, Encryption: l.Encryption,
		Banner: l.Banner, Welcome: l.Welcome, Allow: api.NetworkList(l.Allow), Deny: api.NetworkList(l.Deny), PassiveLow: l.PassiveLow, PassiveHigh: l.PassiveHigh,
		Advertise: l.Advertise, Active: !l.NoActive, ResumeData: l.ResumeData, ClientCertificates: l.ClientCertificates,
		Proxies: api.NetworkList(l.Proxies), Certificate: l.Certificate, Faces: append([]keep.Face{}, l.Faces...), Hosts: append([]string{}, l.Hosts...), Redirect: l.Redirect, Forwarded: l.Forwarded}
	shown.Listening, shown.PassiveTaken, shown.PassiveRefused = s.Posts.Watch(l.Name)
	shown.Problem = s.Posts.Unable(l.Name)
	return shown
}

func (s *Server) showListeners(c *gin.Context) ([]api.Listener, error) {
	found, err := s.DB.Listeners(c.Request.Context())
	shown := make([]api.Listener, len(found))
	for i, l := range found {
		shown[i] = s.showListener(l)
	}
	return shown, err
}

func (s *Server) listeners(c *gin.Context) error {
	shown, err := s.showListeners(c)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Page[api.Listener]{Items: shown})
	return nil
}

// applyListener puts what a request names into a listener.
func applyListener(l *keep.Listener, ask api.ListenerChange) error {
	put(&l.Address, ask.Address)
	put(&l.Stopped, ask.Stopped)
	put(&l.Encryption, ask.Encryption)
	put(&l.Banner, ask.Banner)
	put(&l.Welcome, ask.Welcome)
	put(&l.PassiveLow, ask.PassiveLow)
	put(&l.PassiveHigh, ask.PassiveHigh)
	put(&l.Advertise, ask.Advertise)
	put(&l.ResumeData, ask.ResumeData)
	put(&l.ClientCertificates, ask.ClientCertificates)
	put(&l.Certificate, ask.Certificate)
	put(&l.Faces, ask.Faces)
	put(&l.Hosts, ask.Hosts)
	put(&l.Redirect, ask.Redirect)
	put(&l.Forwarded, ask.Forwarded)
	if ask.Active != nil {
		l.NoActive = !*ask.Active
	}
	for _, rule := range []struct {
		field string
		ask   *[]string
		into  *keep.Networks
	}{{"allow", ask.Allow, &l.Allow}, {"deny", ask.Deny, &l.Deny}, {"proxies", ask.Proxies, &l.Proxies}} {
		if rule.ask == nil {
			continue
		}
		n, err := networksOf(rule.field, *rule.ask)
		if err != nil {
			return err
		}
		*rule.into = *n
	}
	return nil
}

func (s *Server) addListener(c *gin.Context) error {
	var ask api.ListenerNew
	if err := body(c, &ask); err != nil {
		return err
	}
	l := keep.Listener{Name: ask.Name, Protocol: ask.Protocol, Encryption: keep.EncryptionRequired}
	if err := applyListener(&l, ask.ListenerChange); err != nil {
		return err
	}
	l, err := s.Office.AddListener(c.Request.Context(), actor(c), l, ask.Meant)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, s.showListener(l))
	return nil
}

func (s *Server) setListener(c *gin.Context) error {
	var ask api.ListenerChange
	if err := body(c, &ask); err != nil {
		return err
	}
	if err := applyListener(new(keep.Listener), ask); err != nil {
		return err
	}
	l, err := s.Office.SetListener(c.Request.Context(), actor(c), c.Param("name"), func(l *keep.Listener) { applyListener(l, ask) }, ask.Meant)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, s.showListener(l))
	return nil
}

func (s *Server) removeListener(c *gin.Context) error {
	if err := s.Office.RemoveListener(c.Request.Context(), actor(c), c.Param("name"), c.Query("meant") == "true"); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) lockouts(c *gin.Context) error {
	var all []api.Lockout
	for _, l := range s.Office.Guard.Lockouts() {
		all = append(all, api.Lockout{Address: l.Address, Account: l.Account, Codes: l.Codes, Expires: l.Until.UTC(), Failed: l.Failed})
	}
	who := func(l api.Lockout) string { return l.Account + " " + l.Address }
	return replyWindow(c, all, who, who)
}

func (s *Server) liftLockout(c *gin.Context) error {
	if err := s.Office.LiftLockout(actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
