package web

import (
	"bytes"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/records"
)

func (s *Server) accounts(c *gin.Context) error {
	size, err := limit(c)
	if err != nil {
		return err
	}
	sets, err := settingNames(c)
	if err != nil {
		return err
	}
	ask := records.AccountQuery{Text: c.Query("text"), Group: c.Query("group"), Sets: sets}
	found, err := s.DB.Accounts(c.Request.Context(), ask, c.Query("after"), size+1)
	if err != nil {
		return err
	}
	page := api.Page[api.Account]{Items: []api.Account{}, Total: len(found)}
	if len(found) > size || c.Query("after") != "" {
		if page.Total, err = s.DB.CountAccounts(c.Request.Context(), ask); err != nil {
			return err
		}
	}
	if len(found) > size {
		found = found[:size]
		page.Next = found[size-1].Name
	}
	for _, a := range found {
		e, err := s.DB.Resolve(c.Request.Context(), a)
		if err != nil {
			return err
		}
		shown, err := s.show(c, e)
		if err != nil {
			return err
		}
		page.Items = append(page.Items, shown)
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// show is an account as it goes over HTTP.
func (s *Server) show(c *gin.Context, e *keep.Effective) (api.Account, error) {
	keys, err := s.DB.Keys(c.Request.Context(), e.ID)
	if err != nil {
		return api.Account{}, err
	}
	shown := api.Account{Name: e.Name, Note: e.Note, Mail: e.Mail, State: e.State, Source: e.From(), HasPassword: e.PasswordHash != "", MustChange: e.MustChange, SignInBy: e.SignInBy,
		Means: e.Means(len(keys)), CanSignIn: e.CanSignIn(len(keys)), Keys: len(keys), Plain: e.Encryption == keep.EncryptionOptional,
		Groups: list(e.Groups), Settings: e.Settings, Mounts: list(e.Account.Mounts), Grants: list(e.Account.Grants),
		InForce: api.InForce{Mounts: []api.Mount{}, Grants: []api.Grant{}}, Sessions: len(s.Traffic.SessionsOf(e.Name)), Created: e.Created, Changed: e.Changed, LastSignIn: api.Known(e.LastSignIn)}
	for _, m := range e.Mounts {
		one := api.Mount{Mount: m, From: keep.FromOf(m.From)}
		if m.Quota.Limited() {
			if over := s.Office.Ledger.Over(quota.Spot{Store: m.Store, Path: m.FolderFor(e.Name)}); len(over) > 0 {
				one.Used = &over[0].Used
			}
		}
		shown.InForce.Mounts = append(shown.InForce.Mounts, one)
	}
	for _, g := range e.Grants {
		shown.InForce.Grants = append(shown.InForce.Grants, api.Grant{Grant: g, From: keep.FromOf(g.From), Conditions: g.Conditions()})
	}
	return shown, nil
}

// list is an empty list for none.
func list[T any](items []T) []T {
	if items == nil {
		return []T{}
	}
	return items
}

func (s *Server) replyAccount(c *gin.Context, a *keep.Effective, err error) error {
	if err != nil {
		return err
	}
	shown, err := s.show(c, a)
	if err != nil {
		return err
	}
	shown.InForce.Settings = a.Values()
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
	a := &keep.Account{Name: ask.Name, Note: ask.Note, Mail: ask.Mail, Source: ownAs(ask.Source), MustChange: ask.MustChange, Groups: ask.Groups, Mounts: ask.Mounts, Grants: ask.Grants}
	if err := a.Settings.PutAll(ask.Settings); err != nil {
		return err
	}
	e, err := s.Office.AddAccount(c.Request.Context(), actor(c), a, password, ask.Key)
	if err != nil {
		return err
	}
	return s.replyMade(c, http.StatusCreated, e, shownOnce, strengthOf(ask.Password, ask.Name))
}

// strengthOf estimates a password that an operator chose; nil for none.
func strengthOf(password, account string) *api.Strength {
	if password == "" {
		return nil
	}
	found := api.Strength(passwords.Estimate(keep.Secret(password), account))
	return &found
}

func (s *Server) testPassword(c *gin.Context) error {
	var ask api.PasswordTest
	if err := body(c, &ask); err != nil {
		return err
	}
	if ask.Password == "" {
		return &keep.FieldError{Field: "password", Say: "it is empty"}
	}
	c.JSON(http.StatusOK, strengthOf(ask.Password, ask.Account))
	return nil
}

func (s *Server) cloneAccount(c *gin.Context) error {
	var ask api.AccountClone
	if err := body(c, &ask); err != nil {
		return err
	}
	password, shownOnce := wanted("", ask.Generate)
	e, err := s.Office.CloneAccount(c.Request.Context(), actor(c), c.Param("name"), ask.Name, password)
	if err != nil {
		return err
	}
	return s.replyMade(c, http.StatusCreated, e, shownOnce, nil)
}

func (s *Server) exportAccounts(c *gin.Context) error {
	var text bytes.Buffer
	if err := s.Office.Export(c.Request.Context(), &text); err != nil {
		return err
	}
	c.Header("Content-Disposition", `attachment; filename="accounts.csv"`)
	c.Data(http.StatusOK, "text/csv; charset=utf-8", text.Bytes())
	return nil
}

func (s *Server) importAccounts(c *gin.Context) error {
	var ask api.Roster
	if err := body(c, &ask); err != nil {
		return err
	}
	lines, err := s.Office.Import(c.Request.Context(), actor(c), ask.CSV, ask.Dry)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Page[api.RosterLine]{Items: list(lines)})
	return nil
}

// wanted is the password to set, and the same again when it was generated.
func wanted(given string, generate bool) (password keep.Secret, shownOnce string) {
	if generate {
		password = passwords.Generate()
		return password, password.Reveal()
	}
	return keep.Secret(given), ""
}

func (s *Server) replyMade(c *gin.Context, status int, a *keep.Effective, password string, strength *api.Strength) error {
	shown, err := s.show(c, a)
	if err != nil {
		return err
	}
	shown.InForce.Settings = a.Values()
	c.JSON(status, api.AccountMade{Account: shown, Password: password, Strength: strength})
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
	a, err := s.Office.SetAccount(c.Request.Context(), actor(c), c.Param("name"), password, func(a *keep.Account) error {
		put(&a.Note, ask.Note)
		put(&a.Mail, ask.Mail)
		if ask.Source != nil {
			a.Source, a.SourceID = ownAs(*ask.Source), ""
		}
		put(&a.MustChange, ask.MustChange)
		put(&a.Groups, ask.Groups)
		put(&a.Mounts, ask.Mounts)
		put(&a.Grants, ask.Grants)
		return a.Settings.PutAll(ask.Settings)
	})
	if err != nil {
		return err
	}
	return s.replyMade(c, http.StatusOK, a, shownOnce, strengthOf(given, c.Param("name")))
}

// ownAs is the name of a source as an account has it.
func ownAs(source string) string {
	if source == keep.OwnSource {
		return ""
	}
	return source
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
	q.Over = keep.Protocol(c.Query("over"))
	if err := (keep.Protocols{q.Over}).Check(); q.Over != "" && err != nil {
		return &keep.FieldError{Field: "over", Say: err.Error()}
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
	if id := c.Query("pass"); id != "" {
		p, err := s.Office.PassOf(c.Request.Context(), c.Param("name"), id)
		if err != nil {
			return err
		}
		q.Pass = &p
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

func (s *Server) rehearse(c *gin.Context) error {
	tries, err := s.Office.Rehearse(c.Request.Context(), actor(c), c.Param("name"), c.Query("pass"))
	if err != nil {
		return err
	}
	answer := api.Rehearsal{Account: c.Param("name"), Agrees: true, Tries: []api.RehearsalTry{}}
	for _, t := range tries {
		expected := "refused"
		if t.Expected {
			expected = "allowed"
		}
		answer.Agrees = answer.Agrees && t.Agrees()
		answer.Tries = append(answer.Tries, api.RehearsalTry{Protocol: t.Protocol, Listener: t.Listener, Does: t.Does, Path: t.Path, Expected: expected, Observed: t.Observed, Why: t.Why, Agrees: t.Agrees()})
	}
	c.JSON(http.StatusOK, answer)
	return nil
}

// settings tells what can be set.
func (s *Server) settings(c *gin.Context) error {
	page := api.Page[api.SettingKnown]{}
	for _, one := range keep.AllSettings {
		page.Items = append(page.Items, api.SettingKnown{Name: one.Name, Label: one.Label, Help: strings.ReplaceAll(one.Help, "`", "")})
	}
	c.JSON(http.StatusOK, page)
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
