package web

import (
	"cmp"
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
)

// siteOf is where the browser has the console.
func (s *Server) siteOf(c *gin.Context) (signin.Site, error) {
	who, err := s.Office.Identity(c.Request.Context())
	return signin.Site{Name: cmp.Or(who.Name, issuer), Origin: s.origin(c), Host: keep.BareHost(c.Request.Host)}, err
}

func (s *Server) passkeys(c *gin.Context) error {
	name, err := self(c)
	if err != nil {
		return err
	}
	found, err := s.Operators.Passkeys(c.Request.Context(), name)
	if err != nil {
		return err
	}
	page := api.Page[api.Passkey]{Items: []api.Passkey{}}
	for _, p := range found {
		page.Items = append(page.Items, api.Passkey{ID: p.ID, Label: p.Label, Host: p.Host, Created: p.Created, LastUsed: api.Known(p.LastUsed)})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) newPasskey(c *gin.Context) error {
	var ask api.Proving
	if err := body(c, &ask); err != nil {
		return err
	}
	name, err := self(c)
	if err != nil {
		return err
	}
	at, err := s.siteOf(c)
	if err != nil {
		return err
	}
	cookie, _ := c.Cookie(cookieOf(c))
	id, options, err := s.Operators.NewPasskey(c.Request.Context(), visitorOf(c), at, name, keep.Secret(ask.Now), keep.Secret(cookie))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.PasskeyAsk{ID: id, Options: options})
	return nil
}

func (s *Server) addPasskey(c *gin.Context) error {
	var ask api.PasskeyAnswer
	if err := body(c, &ask); err != nil {
		return err
	}
	name, err := self(c)
	if err != nil {
		return err
	}
	at, err := s.siteOf(c)
	if err != nil {
		return err
	}
	if err := s.Operators.AddPasskey(c.Request.Context(), visitorOf(c), at, name, ask.ID, ask.Label, ask.Response); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) dropPasskey(c *gin.Context) error {
	name, err := self(c)
	if err == nil {
		err = s.Operators.DropPasskey(c.Request.Context(), visitorOf(c), name, c.Param("id"))
	}
	if err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) askPasskey(c *gin.Context) error {
	at, err := s.siteOf(c)
	if err != nil {
		return err
	}
	id, options, err := s.Operators.AskPasskey(visitor(c), at)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.PasskeyAsk{ID: id, Options: options})
	return nil
}

func (s *Server) signInByPasskey(c *gin.Context) error {
	var ask api.PasskeyAnswer
	if err := body(c, &ask); err != nil {
		return err
	}
	at, err := s.siteOf(c)
	if err != nil {
		return err
	}
	operator, cookie, err := s.Operators.SignInByPasskey(c.Request.Context(), visitor(c), at, ask.ID, ask.Response)
	if err != nil {
		return err
	}
	s.setCookie(c, cookie.Reveal(), int(signin.CookieLife.Seconds()))
	c.JSON(http.StatusOK, showOperator(operator))
	return nil
}
