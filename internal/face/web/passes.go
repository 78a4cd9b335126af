package web

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// passes lists what is open to outsiders, of one account or all, and on request what was.
func (s *Server) passes(c *gin.Context) error {
	size, err := limit(c)
	if err != nil {
		return err
	}
	now := time.Now()
	found, err := s.DB.Passes(c.Request.Context(), records.PassQuery{Account: c.Query("account"), Ended: c.Query("ended") == "true", After: c.Query("after"), Limit: size + 1}, now)
	if err != nil {
		return err
	}
	page := api.Page[api.Pass]{Items: []api.Pass{}}
	for i, p := range found {
		if i == size {
			page.Next = found[i-1].ID
			break
		}
		page.Items = append(page.Items, api.PassOf(p.Pass, p.Name, now))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) addPass(c *gin.Context) error {
	var ask api.PassNew
	if err := body(c, &ask); err != nil {
		return err
	}
	p, life, err := ask.Pass()
	if err != nil {
		return err
	}
	ctx := c.Request.Context()
	p, secret, err := s.Office.AddPass(ctx, actor(c), ask.Account, p, keep.Secret(ask.Password), life)
	if err != nil {
		return err
	}
	origin, shut, err := s.Office.Origin(ctx, keep.PassesFace)
	if err != nil {
		return err
	}
	made := api.PassMade{Pass: api.PassOf(p, ask.Account, time.Now()), Link: origin + "/pass/" + secret.Reveal() + "/", Shut: shut}
	if ask.MailTo != "" && shut != "" {
		made.MailError = shut
	} else if ask.MailTo != "" {
		if made.Mailed, err = s.Office.MailPass(ctx, ask.Account, ask.MailTo, made.Link, p); err != nil {
			made.MailError = err.Error()
		}
	}
	c.JSON(http.StatusCreated, made)
	return nil
}

func (s *Server) endPass(c *gin.Context) error {
	if err := s.Office.EndPass(c.Request.Context(), actor(c), c.Param("id")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) endPasses(c *gin.Context) error {
	n, err := s.Office.EndPasses(c.Request.Context(), actor(c), c.Param("name"))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.PassesEnded{Ended: n})
	return nil
}

// passUses tells who used a pass.
func (s *Server) passUses(c *gin.Context) error {
	p, err := s.Office.NamedPass(c.Request.Context(), actor(c), c.Param("id"))
	if err != nil {
		return err
	}
	found, err := s.DB.PassUses(c.Request.Context(), p.ID)
	if err != nil {
		return err
	}
	page := api.Page[api.PassUse]{Items: []api.PassUse{}}
	for _, u := range found {
		page.Items = append(page.Items, api.UseOf(u))
	}
	c.JSON(http.StatusOK, page)
	return nil
}
