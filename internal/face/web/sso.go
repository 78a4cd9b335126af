package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/protocol/exchange"
)

// operatorsSSO are the single sign-ons that give roles.
func (s *Server) operatorsSSO(c *gin.Context) error {
	page := api.Page[api.SSO]{Items: []api.SSO{}}
	for _, one := range s.Operators.Book.Offered(func(one *keep.Source, _ []keep.Route) bool { return len(one.Roles) > 0 }) {
		page.Items = append(page.Items, api.SSO{Source: one.Name, Label: one.Label})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// leaveForSSO sends a browser to a provider of single sign-on.
func (s *Server) leaveForSSO(c *gin.Context) error {
	var ask api.SSOLeave
	if err := body(c, &ask); err != nil {
		return err
	}
	encrypted := came(c).Encrypted
	where, browser, err := s.Operators.LeaveForSSO(c.Request.Context(), visitor(c), ask.Source, s.origin(c), exchange.Browser(c.Request, encrypted))
	if err != nil {
		return err
	}
	exchange.SendAway(c.Writer, encrypted, browser)
	c.JSON(http.StatusOK, api.SSOGo{URL: where})
	return nil
}

// backFromSSO ends a single sign-on that the console began, and shows the console.
func (s *Server) backFromSSO(c *gin.Context) error {
	_, cookie, err := s.Operators.SignInBySSO(c.Request.Context(), visitor(c), exchange.Browser(c.Request, came(c).Encrypted), c.Request.URL.Query())
	at := consolePath
	if err != nil {
		at += "sign-in?sso=refused"
	} else {
		s.setCookie(c, cookie.Reveal(), int(signin.CookieLife.Seconds()))
	}
	c.Redirect(http.StatusSeeOther, at)
	return nil
}
