package web

import (
	"fmt"
	"net/http"
	"net/netip"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/keep"
	"urbankeep/internal/signin"
	"urbankeep/internal/web/api"
)

func (s *Server) accounts(c *gin.Context) error {
	size, err := limit(c)
	if err != nil {
		return err
	}
	found, err := s.DB.Accounts(c.Request.Context(), c.Query("after"), size+1)
	if err != nil {
		return err
	}
	page := api.Page[api.Account]{Items: []api.Account{}}
	if len(found) > size {
		found = found[:size]
		page.Next = found[size-1].Name
	}
	for _, a := range found {
		shown, err := s.show(c, a)
		if err != nil {
			return err
		}
		page.Items = append(page.Items, shown)
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// show is an account as it goes over HTTP.
func (s *Server) show(c *gin.Context, a *keep.Account) (api.Account, error) {
	keys, err := s.DB.Keys(c.Request.Context(), a.ID)
	if err != nil {
		return api.Account{}, err
	}
	grants := a.Grants
	if grants == nil {
		grants = []keep.Grant{}
	}
	return api.Account{Name: a.Name, Note: a.Note, State: a.State, HasPassword: a.PasswordHash != "", SignInBy: a.SignInBy,
		Means: a.Means(len(keys)), CanSignIn: a.CanSignIn(len(keys)), Keys: len(keys), AllowPlain: a.AllowPlain,
		ValidFrom: known(a.ValidFrom), ValidUntil: known(a.ValidUntil), MaxSessions: a.MaxSessions, MaxUpload: a.MaxUpload,
		Mounts: a.Mounts, Grants: grants, Sessions: len(s.Traffic.SessionsOf(a.Name)), Created: a.Created, Changed: a.Changed,
		LastSignIn: known(a.LastSignIn)}, nil
}

// known is nil for the zero time.
func known(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func (s *Server) replyAccount(c *gin.Context, a *keep.Account, err error) error {
	if err != nil {
		return err
	}
	shown, err := s.show(c, a)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, shown)
	return nil
}

func (s *Server) account(c *gin.Context) error {
	a, err := s.Office.Account(c.Request.Context(), c.Param("name"))
	return s.replyAccount(c, a, err)
}

func (s *Server) addAccount(c *gin.Context) error {
	var ask api.AccountNew
	if err := body(c, &ask); err != nil {
		return err
	}
	password, shownOnce := wanted(ask.Password, ask.Generate)
	a := &keep.Account{Name: ask.Name, Note: ask.Note, SignInBy: ask.SignInBy, AllowPlain: ask.AllowPlain, MaxSessions: ask.MaxSessions, MaxUpload: ask.MaxUpload, Mounts: ask.Mounts, Grants: ask.Grants}
	put(&a.ValidFrom, ask.ValidFrom)
	put(&a.ValidUntil, ask.ValidUntil)
	if err := s.Office.AddAccount(c.Request.Context(), actor(c), a, password); err != nil {
		return err
	}
	return s.replyMade(c, http.StatusCreated, a, shownOnce)
}

// wanted is the password to set, and the same again when it was generated.
func wanted(given string, generate bool) (password keep.Secret, shownOnce string) {
	if generate {
		password = signin.Generate()
		return password, password.Reveal()
	}
	return keep.Secret(given), ""
}

func (s *Server) replyMade(c *gin.Context, status int, a *keep.Account, password string) error {
	shown, err := s.show(c, a)
	if err != nil {
		return err
	}
	c.JSON(status, api.AccountMade{Account: shown, Password: password})
	return nil
}

func (s *Server) setAccount(c *gin.Context) error {
	var ask api.AccountChange
	if err := body(c, &ask); err != nil {
		return err
	}
	given := ""
	if ask.Password != nil {
		given = *ask.Password
		if given == "" {
			return &keep.FieldError{Field: "password", Say: "it is empty: give one, or have one generated"}
		}
	}
	password, shownOnce := wanted(given, ask.Generate)
	a, err := s.Office.SetAccount(c.Request.Context(), actor(c), c.Param("name"), password, func(a *keep.Account) {
		put(&a.Note, ask.Note)
		put(&a.SignInBy, ask.SignInBy)
		put(&a.AllowPlain, ask.AllowPlain)
		put(&a.ValidFrom, ask.ValidFrom)
		put(&a.ValidUntil, ask.ValidUntil)
		put(&a.MaxSessions, ask.MaxSessions)
		put(&a.MaxUpload, ask.MaxUpload)
		put(&a.Mounts, ask.Mounts)
		put(&a.Grants, ask.Grants)
	})
	if err != nil {
		return err
	}
	return s.replyMade(c, http.StatusOK, a, shownOnce)
}

// put sets a field where the request names it.
func put[T any](field *T, value *T) {
	if value != nil {
		*field = *value
	}
}

// explain answers a question that a request's query asks.
func (s *Server) explain(c *gin.Context) error {
	q := keep.Question{From: c.Query("from"), At: time.Now()}
	var err error
	if q.Right, err = keep.OneRight("right", c.Query("right")); err != nil {
		return err
	}
	if q.Path, err = keep.CleanPath("/", c.Query("path")); err != nil {
		return &keep.FieldError{Field: "path", Say: err.Error()}
	}
	if _, err := netip.ParseAddr(q.From); q.From != "" && err != nil {
		return &keep.FieldError{Field: "from", Say: fmt.Sprintf("%q is no IP address", q.From)}
	}
	at, err := moment(c, "at")
	if err != nil {
		return err
	}
	if !at.IsZero() {
		q.At = at
	}
	steps, err := s.Office.Explain(c.Request.Context(), c.Param("name"), q)
	if err != nil {
		return err
	}
	answer := api.Explanation{Allowed: true, Steps: steps}
	for _, step := range steps {
		answer.Allowed = answer.Allowed && step.OK
	}
	c.JSON(http.StatusOK, answer)
	return nil
}

func (s *Server) suspend(c *gin.Context) error {
	a, err := s.Office.Suspend(c.Request.Context(), actor(c), c.Param("name"))
	return s.replyAccount(c, a, err)
}

func (s *Server) resume(c *gin.Context) error {
	a, err := s.Office.Resume(c.Request.Context(), actor(c), c.Param("name"))
	return s.replyAccount(c, a, err)
}

func (s *Server) deleteAccount(c *gin.Context) error {
	if err := s.Office.DeleteAccount(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
