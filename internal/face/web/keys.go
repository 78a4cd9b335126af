package web

import (
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/pubkey"
)

func showKeys(held []office.HeldKey) api.Page[api.Key] {
	page := api.Page[api.Key]{Items: []api.Key{}}
	for _, h := range held {
		page.Items = append(page.Items, api.KeyOf(h.Key, h.SharedWith))
	}
	return page
}

func (s *Server) keys(c *gin.Context) error {
	held, err := s.Office.Keys(c.Request.Context(), c.Param("name"))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, showKeys(held))
	return nil
}

// rules are what a request for a new key says of it; what it does not say is nil.
func rules(label string, expires *time.Time, where []string) (r office.KeyRules, err error) {
	if label != "" {
		r.Label = &label
	}
	r.Expires = expires
	if len(where) > 0 {
		r.Networks, err = networksOf("networks", where)
	}
	return r, err
}

func networksOf(field string, where []string) (*keep.Networks, error) {
	n, err := keep.ParseNetworks(field, strings.Join(where, ","))
	return &n, err
}

func (s *Server) addKey(c *gin.Context) error {
	var ask api.KeyNew
	if err := body(c, &ask); err != nil {
		return err
	}
	r, err := rules(ask.Label, ask.Expires, ask.Networks)
	if err != nil {
		return err
	}
	held, err := s.Office.AddKeys(c.Request.Context(), actor(c), c.Param("name"),
		office.NewKeys{Text: ask.Key, Rules: r, Authority: ask.Authority, Shared: ask.Shared})
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, showKeys(held))
	return nil
}

func (s *Server) makeKey(c *gin.Context) error {
	var ask api.KeyPairNew
	if err := body(c, &ask); err != nil {
		return err
	}
	r, err := rules(ask.Label, ask.Expires, ask.Networks)
	if err != nil {
		return err
	}
	kind := pubkey.Kind(ask.Type)
	if kind == "" {
		kind = pubkey.Ed25519
	}
	k, private, err := s.Office.MakeKey(c.Request.Context(), actor(c), c.Param("name"), kind, keep.Secret(ask.Passphrase), r)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, api.KeyPair{Key: api.KeyOf(k, []string{}), Private: private.Reveal()})
	return nil
}

// keyNumber is the key that a path names.
func keyNumber(c *gin.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("key"), 10, 64)
	if err != nil {
		return 0, &keep.FieldError{Field: "key", Say: "name the key by its number"}
	}
	return id, nil
}

func (s *Server) setKey(c *gin.Context) error {
	var ask api.KeyChange
	if err := body(c, &ask); err != nil {
		return err
	}
	id, err := keyNumber(c)
	if err != nil {
		return err
	}
	r := office.KeyRules{Label: ask.Label, Expires: ask.Expires}
	if ask.Networks != nil {
		if r.Networks, err = networksOf("networks", *ask.Networks); err != nil {
			return err
		}
	}
	h, err := s.Office.SetKey(c.Request.Context(), actor(c), c.Param("name"), id, r)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.KeyOf(h.Key, h.SharedWith))
	return nil
}

func (s *Server) removeKey(c *gin.Context) error {
	id, err := keyNumber(c)
	if err != nil {
		return err
	}
	if err := s.Office.RemoveKey(c.Request.Context(), actor(c), c.Param("name"), id); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) testKeys(c *gin.Context) error {
	var ask api.KeyText
	if err := body(c, &ask); err != nil {
		return err
	}
	tested, err := s.Office.TestKeys(c.Request.Context(), ask.Key)
	if err != nil {
		return err
	}
	page := api.Page[api.KeyTest]{Items: []api.KeyTest{}}
	for _, t := range tested {
		shown := api.KeyTest{Line: t.Line, Label: t.Key.Label, Type: t.Key.Type, Bits: t.Key.Bits, Fingerprint: t.Key.Fingerprint,
			Authority: t.Key.Authority, Expires: api.Known(t.Key.Expires), Networks: api.NetworkList(t.Key.Networks), Accounts: t.Accounts}
		if t.Err != nil {
			shown.Problem = t.Err.Say
		} else {
			shown.Strength = t.Key.Strength()
		}
		page.Items = append(page.Items, shown)
	}
	c.JSON(http.StatusOK, page)
	return nil
}
