package web

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

// handover answers with the sheet of an account: as JSON, as text or as Markdown.
func (s *Server) handover(c *gin.Context) error {
	sheet, err := s.Office.Handover(c.Request.Context(), c.Param("name"), c.Query("host"))
	if err != nil {
		return err
	}
	switch c.Query("format") {
	case "", "json":
		c.JSON(http.StatusOK, sheet)
	case "text":
		c.Data(http.StatusOK, "text/plain; charset=utf-8", []byte(sheet.Text()))
	case "markdown":
		c.Data(http.StatusOK, "text/markdown; charset=utf-8", []byte(sheet.Markdown()))
	default:
		return &keep.FieldError{Field: "format", Say: "use json, text or markdown"}
	}
	return nil
}

// linkPassword gives an account a new password, and a link that shows it once.
func (s *Server) linkPassword(c *gin.Context) error {
	var ask api.PasswordLinkNew
	if err := body(c, &ask); err != nil {
		return err
	}
	life := time.Duration(ask.Days) * 24 * time.Hour
	origin, shut, err := s.Office.Origin(c.Request.Context(), keep.PassesFace, keep.PortalFace, keep.ConsoleFace)
	if err != nil {
		return err
	}
	secret, err := s.Office.LinkPassword(c.Request.Context(), actor(c), c.Param("name"), ask.MustChange, life)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, api.PasswordLink{Link: origin + passwordPath + "#" + secret.Reveal(), Shut: shut, Expires: time.Now().Add(life).UTC()})
	return nil
}

// openPassword shows the password of a link, once.
func (s *Server) openPassword(c *gin.Context) error {
	var ask api.PasswordLinkOpen
	if err := body(c, &ask); err != nil {
		return err
	}
	account, password, err := s.Operators.OpenPasswordLink(c.Request.Context(), visitor(c), keep.Secret(ask.Secret))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.PasswordShown{Account: account, Password: password.Reveal()})
	return nil
}

// dropAccountCodes helps a holder who has lost what makes one-time codes.
func (s *Server) dropAccountCodes(c *gin.Context) error {
	if err := s.Office.DropCodes(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
