package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/certificate"
)

func (s *Server) showListener(l keep.Listener) api.Listener {
	shown := api.Listener{Name: l.Name, Protocol: l.Protocol, Address: l.Address, Stopped: l.Stopped, Encryption: l.Encryption,
		Banner: l.Banner, Welcome: l.Welcome, Allow: networks(l.Allow), Deny: networks(l.Deny), PassiveLow: l.PassiveLow, PassiveHigh: l.PassiveHigh,
		Advertise: l.Advertise, Active: !l.NoActive, ResumeData: l.ResumeData, ClientCertificates: l.ClientCertificates}
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
	if ask.Active != nil {
		l.NoActive = !*ask.Active
	}
	for _, rule := range []struct {
		field string
		ask   *[]string
		into  *keep.Networks
	}{{"allow", ask.Allow, &l.Allow}, {"deny", ask.Deny, &l.Deny}} {
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
	l, err := s.Office.AddListener(c.Request.Context(), actor(c), l)
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
	l, err := s.Office.SetListener(c.Request.Context(), actor(c), c.Param("name"), func(l *keep.Listener) { applyListener(l, ask) })
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, s.showListener(l))
	return nil
}

func (s *Server) removeListener(c *gin.Context) error {
	if err := s.Office.RemoveListener(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) certificate(c *gin.Context) error {
	f := s.Office.Certificate.Facts()
	c.JSON(http.StatusOK, api.Certificate{CertificateFile: f.Files.Certificate, KeyFile: f.Files.Key, Own: f.Own, SelfSigned: f.SelfSigned, Names: f.Names,
		Issuer: f.Issuer, Chain: f.Chain, Starts: f.From, Expires: f.Until, Fingerprint: f.Fingerprint, Problem: f.Problem})
	return nil
}

func (s *Server) setCertificate(c *gin.Context) (err error) {
	var ask api.CertificateChange
	if err := body(c, &ask); err != nil {
		return err
	}
	ctx, who := c.Request.Context(), actor(c)
	switch {
	case ask.SelfSigned && ask.CertificateFile == "" && ask.Certificate == "":
		err = s.Office.RenewCertificate(ctx, who)
	case ask.CertificateFile != "" && ask.Certificate == "" && !ask.SelfSigned:
		if err := ownersOnly(c); err != nil {
			return err
		}
		err = s.Office.FollowCertificate(ctx, who, certificate.Files{Certificate: ask.CertificateFile, Key: ask.KeyFile})
	case ask.Certificate != "" && ask.CertificateFile == "" && !ask.SelfSigned:
		err = s.Office.StoreCertificate(ctx, who, keep.Secret(ask.Certificate), keep.Secret(ask.Key))
	default:
		err = &keep.FieldError{Field: "certificate", Say: "give one of certificateFile, certificate and selfSigned"}
	}
	if err != nil {
		return err
	}
	return s.certificate(c)
}

func (s *Server) lockouts(c *gin.Context) error {
	page := api.Page[api.Lockout]{Items: []api.Lockout{}}
	for _, l := range s.Office.Guard.Lockouts() {
		page.Items = append(page.Items, api.Lockout{Address: l.Address, Account: l.Account, Expires: l.Until.UTC(), Failed: l.Failed})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) liftLockout(c *gin.Context) error {
	if err := s.Office.LiftLockout(actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
