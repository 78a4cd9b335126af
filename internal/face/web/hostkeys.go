package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/hostkey"
	"urbankeep/internal/keys/pubkey"
)

func showHostKey(k hostkey.Key) api.HostKey {
	return api.HostKey{ID: k.ID(), State: string(k.State), Type: k.Type(), Bits: k.Bits(), Fingerprint: k.Fingerprint(), Line: k.Line(), SSHFP: k.SSHFP()}
}

func (s *Server) hostKeys(c *gin.Context) error {
	page := api.Page[api.HostKey]{Items: []api.HostKey{}}
	for _, key := range s.Office.HostKeys.Keys() {
		page.Items = append(page.Items, showHostKey(key))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// addHostKey makes a key, or imports one where the request brings it.
func (s *Server) addHostKey(c *gin.Context) error {
	var ask api.HostKeyNew
	if err := body(c, &ask); err != nil {
		return err
	}
	var k hostkey.Key
	var err error
	switch {
	case ask.Private != "" && ask.Type != "":
		return &keep.FieldError{Field: "type", Say: "a key that is brought has its own type: leave it out"}
	case ask.Private != "":
		k, err = s.Office.ImportHostKey(actor(c), keep.Secret(ask.Private), keep.Secret(ask.Passphrase))
	default:
		k, err = s.Office.MakeHostKey(actor(c), pubkey.Kind(ask.Type))
	}
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, showHostKey(k))
	return nil
}

func (s *Server) useHostKey(c *gin.Context) error {
	k, err := s.Office.UseHostKey(actor(c), c.Param("id"))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, showHostKey(k))
	return nil
}

func (s *Server) removeHostKey(c *gin.Context) error {
	if err := s.Office.RemoveHostKey(actor(c), c.Param("id")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
