package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/certificate"
)

func showCertificate(f *certificate.Facts) api.Certificate {
	shown := api.Certificate{Name: f.Name, CertificateFile: f.Files.Certificate, KeyFile: f.Files.Key, Own: f.Own, SelfSigned: f.SelfSigned, Names: f.Names,
		Issuer: f.Issuer, Chain: f.Chain, Starts: f.From, Expires: f.Until, Fingerprint: f.Fingerprint, Problem: f.Problem, Failed: f.Failed, Failure: f.Failure}
	if o := f.Order; o != nil {
		shown.ACME = &api.Order{Hosts: o.Hosts, Contact: o.Contact, Directory: o.Directory, KeyID: o.KeyID, Account: o.Account}
		shown.Renews = api.Known(f.Next)
	}
	return shown
}

func (s *Server) certificates(c *gin.Context) error {
	page := api.Page[api.Certificate]{Items: []api.Certificate{}}
	for _, f := range s.Office.Certificates.Facts() {
		page.Items = append(page.Items, showCertificate(&f))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// setCertificate puts another certificate in the place of one, or makes one of a new name. What
// lets the service read files of its machine, or call another one, is for owners.
func (s *Server) setCertificate(c *gin.Context) error {
	var ask api.CertificateChange
	if err := body(c, &ask); err != nil {
		return err
	}
	ways := 0
	for _, given := range []bool{ask.CertificateFile != "", ask.Certificate != "", ask.SelfSigned, ask.ACME != nil} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		return &keep.FieldError{Field: "certificate", Say: "give one of certificateFile, certificate, selfSigned and acme"}
	}
	if ask.CertificateFile != "" || ask.ACME != nil {
		if err := ownersOnly(c); err != nil {
			return err
		}
	}
	var facts certificate.Facts
	var err error
	ctx, who, name := c.Request.Context(), actor(c), c.Param("name")
	switch {
	case ask.SelfSigned:
		facts, err = s.Office.RenewCertificate(ctx, who, name)
	case ask.CertificateFile != "":
		facts, err = s.Office.FollowCertificate(ctx, who, name, certificate.Files{Certificate: ask.CertificateFile, Key: ask.KeyFile})
	case ask.Certificate != "":
		facts, err = s.Office.StoreCertificate(ctx, who, name, keep.Secret(ask.Certificate), keep.Secret(ask.Key))
	default:
		o := ask.ACME
		facts, err = s.Office.ObtainCertificate(ctx, who, name, certificate.Order{Hosts: o.Hosts, Contact: o.Contact, Directory: o.Directory, Trust: o.Trust, KeyID: o.KeyID, MAC: o.MAC}, o.NewAccount)
	}
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, showCertificate(&facts))
	return nil
}

func (s *Server) removeCertificate(c *gin.Context) error {
	if err := s.Office.RemoveCertificate(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
