package web

import (
	"cmp"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/protocol/exchange"
)

// issuer is what authenticators show beside an operator's name, where the service has none.
const issuer = "Urban Keep"

// ownBusiness are the changes that every operator may make, for they are about itself.
var ownBusiness = map[string]bool{"/api/v1/sign-out": true, "/api/v1/me/password": true, "/api/v1/me/codes": true, "/api/v1/me/passkeys/ask": true, "/api/v1/me/passkeys": true, "/api/v1/me/passkeys/:id": true, "/api/v1/access/:id": true}

// self is the operator who is signed in; who comes by the control socket or a token is none.
func self(c *gin.Context) (string, error) {
	if who := actor(c); who.Protocol != keep.Local && !c.GetBool("token") {
		return who.Operator, nil
	}
	return "", &exchange.Problem{Status: http.StatusForbidden, Say: "this is for an operator who is signed in to the console; from the machine itself, operator set changes any operator"}
}

func (s *Server) changeMyPassword(c *gin.Context) error {
	var ask api.PasswordChange
	if err := body(c, &ask); err != nil {
		return err
	}
	name, err := self(c)
	if err != nil {
		return err
	}
	cookie, _ := c.Cookie(cookieOf(c))
	if err := s.Operators.ChangePassword(c.Request.Context(), visitorOf(c), name, keep.Secret(ask.Now), keep.Secret(ask.Next), keep.Secret(cookie)); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) newCodes(c *gin.Context) error {
	name, err := self(c)
	if err != nil {
		return err
	}
	who, err := s.Office.Identity(c.Request.Context())
	if err != nil {
		return err
	}
	codes, err := signin.NewCodes(cmp.Or(who.Name, issuer), name)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, api.Codes{Secret: codes.Secret.Reveal(), URI: codes.URI.Reveal(), Picture: codes.Picture})
	return nil
}

func (s *Server) useCodes(c *gin.Context) error {
	var ask api.CodesUse
	if err := body(c, &ask); err != nil {
		return err
	}
	name, err := self(c)
	if err != nil {
		return err
	}
	recovery, err := s.Operators.UseCodes(c.Request.Context(), visitorOf(c), name, keep.Secret(ask.Secret), ask.Code)
	if err != nil {
		return err
	}
	shown := api.Recovery{}
	for _, code := range recovery {
		shown.Recovery = append(shown.Recovery, code.Reveal())
	}
	c.JSON(http.StatusOK, shown)
	return nil
}

func (s *Server) dropCodes(c *gin.Context) error {
	var ask api.CodesDrop
	if err := body(c, &ask); err != nil {
		return err
	}
	name, err := self(c)
	if err == nil {
		err = s.Operators.DropOwnCodes(c.Request.Context(), visitorOf(c), name, ask.Code)
	}
	if err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

// accessOf is whose ways in a request may see and end: owners everybody's, others their own. A
// token that is no owner's sees and ends itself only.
func accessOf(c *gin.Context) (operator string, only string) {
	who := actor(c)
	switch {
	case who.Role == keep.Owner:
		return c.Query("operator"), ""
	case c.GetBool("token"):
		return who.Operator, c.GetString("access")
	}
	return who.Operator, ""
}

func (s *Server) access(c *gin.Context) error {
	of, only := accessOf(c)
	found, err := s.Operators.Accesses(c.Request.Context(), of)
	if err != nil {
		return err
	}
	page := api.Page[api.Access]{Items: []api.Access{}}
	for _, a := range found {
		if only != "" && a.ID != only {
			continue
		}
		kind := a.Kind
		if kind == "cookie" {
			kind = "console"
		}
		page.Items = append(page.Items, api.Access{ID: a.ID, Kind: kind, Operator: a.Operator, Label: a.Label, Role: a.Role, Address: a.Address,
			Created: a.Created, Expires: a.Expires, LastUsed: api.Known(a.LastUsed), This: a.ID == c.GetString("access")})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) endAccess(c *gin.Context) error {
	of, only := accessOf(c)
	if only != "" && only != c.Param("id") {
		return &exchange.Problem{Status: http.StatusForbidden, Say: "a token can end itself only: sign in to end others"}
	}
	if err := s.Operators.EndAccess(c.Request.Context(), visitorOf(c), actor(c).Operator, of, c.Param("id")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) addToken(c *gin.Context) error {
	var ask api.TokenNew
	if err := body(c, &ask); err != nil {
		return err
	}
	life := time.Duration(ask.Days) * 24 * time.Hour
	token, role, err := s.Operators.NewToken(c.Request.Context(), visitorOf(c), actor(c).Operator, c.Param("operator"), ask.Label, ask.Role, life)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, api.Token{Token: token.Reveal(), Role: role, Expires: time.Now().Add(life).UTC()})
	return nil
}
