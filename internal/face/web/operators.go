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

func visitor(c *gin.Context) signin.Visitor {
	return signin.Visitor{Address: clientAddress(c), Protocol: keep.Console, Encrypted: came(c).Encrypted}
}

func showOperator(o *keep.Operator) api.Operator {
	return api.Operator{Operator: o.Name, Role: o.Role, Codes: o.CodeSecret != "", Source: cmp.Or(o.Source, keep.OwnSource), Created: o.Created, LastSignIn: api.Known(o.LastSignIn)}
}

// setupState tells anyone whether the first operator is still to be made.
func (s *Server) setupState(c *gin.Context) error {
	operators, err := s.DB.Operators(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, gin.H{"needed": len(operators) == 0})
	return nil
}

func (s *Server) setUp(c *gin.Context) error {
	var ask api.SetUp
	if err := body(c, &ask); err != nil {
		return err
	}
	operator, err := s.Operators.SetUp(c.Request.Context(), visitor(c), keep.Secret(ask.Secret), ask.Operator, keep.Secret(ask.Password))
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, showOperator(operator))
	return nil
}

func (s *Server) signIn(c *gin.Context) error {
	var ask api.SignIn
	if err := body(c, &ask); err != nil {
		return err
	}
	operator, cookie, err := s.Operators.SignIn(c.Request.Context(), visitor(c), ask.Operator, keep.Secret(ask.Password), ask.Code)
	if err != nil {
		return err
	}
	s.setCookie(c, cookie.Reveal(), int(signin.CookieLife.Seconds()))
	c.JSON(http.StatusOK, showOperator(operator))
	return nil
}

func (s *Server) setCookie(c *gin.Context, value string, seconds int) {
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieOf(c), Value: value, Path: "/", MaxAge: seconds, HttpOnly: true, Secure: came(c).Encrypted,
		SameSite: http.SameSiteStrictMode})
}

func (s *Server) signOut(c *gin.Context) error {
	if cookie, err := c.Cookie(cookieOf(c)); err == nil {
		if err := s.Operators.SignOut(c.Request.Context(), visitor(c), actor(c).Operator, keep.Secret(cookie)); err != nil {
			return err
		}
	}
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) me(c *gin.Context) error {
	who := actor(c)
	shown := api.Operator{Operator: who.Operator, Role: who.Role, Created: time.Time{}}
	if who.Protocol != keep.Local {
		operator, err := s.DB.Operator(c.Request.Context(), who.Operator)
		if err != nil {
			return err
		}
		shown = showOperator(operator)
		shown.Role = who.Role // a token's may be less
	}
	c.JSON(http.StatusOK, shown)
	return nil
}

// ownersOnly refuses what managers may not do: operators, and what reaches beyond the
// service into the machine and its network, are the owners' business.
func ownersOnly(c *gin.Context) error {
	if actor(c).Role != keep.Owner {
		return &exchange.Problem{Status: http.StatusForbidden, Say: "only an owner can do that: ask one"}
	}
	return nil
}

// visitorOf is where a signed-in operator's request comes from.
func visitorOf(c *gin.Context) signin.Visitor {
	who := actor(c)
	return signin.Visitor{Address: who.Address, Protocol: who.Protocol, Encrypted: who.Protocol == keep.Local || who.Encrypted}
}

func (s *Server) operators(c *gin.Context) error {
	found, err := s.DB.Operators(c.Request.Context())
	if err != nil {
		return err
	}
	page := api.Page[api.Operator]{Items: []api.Operator{}}
	for _, o := range found {
		page.Items = append(page.Items, showOperator(o))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) addOperator(c *gin.Context) error {
	var ask api.OperatorNew
	if err := body(c, &ask); err != nil {
		return err
	}
	made, err := s.Operators.Add(c.Request.Context(), visitorOf(c), actor(c).Operator, ask.Operator, ask.Role, keep.Secret(ask.Password))
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, showOperator(made))
	return nil
}

func (s *Server) setOperator(c *gin.Context) error {
	var ask api.OperatorChange
	if err := body(c, &ask); err != nil {
		return err
	}
	change := signin.Change{Role: ask.Role}
	if ask.Password != nil {
		password := keep.Secret(*ask.Password)
		change.Password = &password
	}
	if ask.Codes != nil {
		if change.NoCodes = !*ask.Codes; *ask.Codes {
			return &keep.FieldError{Field: "codes", Say: "only the operator can switch them on, in the console: it must show that it can make them"}
		}
	}
	if ask.Passkeys != nil {
		if change.NoKeys = !*ask.Passkeys; *ask.Passkeys {
			return &keep.FieldError{Field: "passkeys", Say: "only the operator can add them, in the console"}
		}
	}
	if ask.Source != nil {
		from := ownAs(*ask.Source)
		change.Source = &from
	}
	operator, err := s.Operators.Set(c.Request.Context(), visitorOf(c), actor(c).Operator, c.Param("operator"), change)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, showOperator(operator))
	return nil
}

func (s *Server) removeOperator(c *gin.Context) error {
	if err := s.Operators.Remove(c.Request.Context(), visitorOf(c), actor(c).Operator, c.Param("operator")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) status(c *gin.Context) error {
	status, err := s.Status(c.Request.Context())
	if err != nil {
		return err
	}
	if status.Listeners, err = s.showListeners(c); err != nil {
		return err
	}
	c.JSON(http.StatusOK, status)
	return nil
}
