package web

import (
	"encoding/json"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

func showChange(c *records.Change) api.Change {
	raw := func(text string) json.RawMessage {
		if text == "" {
			return json.RawMessage("null")
		}
		return json.RawMessage(text)
	}
	says := keep.Differences(raw(c.Before), raw(c.After))
	return api.Change{Says: says, ID: c.ID, At: c.At, Operator: c.Operator, Address: c.Address, Action: c.Action, What: c.What, Name: c.Name,
		Before: raw(c.Before), After: raw(c.After), Undoes: c.Undoes, UndoneBy: c.UndoneBy}
}

func (s *Server) history(c *gin.Context) error {
	most, err := limit(c)
	if err != nil {
		return err
	}
	before, err := number(c, "before")
	if err != nil {
		return err
	}
	if err := keep.CheckWord("what", c.Query("what"), office.Kinds); err != nil {
		return err
	}
	found, err := s.DB.Changes(c.Request.Context(), c.Query("what"), c.Query("name"), before, most)
	if err != nil {
		return err
	}
	page := api.Page[api.Change]{Items: []api.Change{}}
	for i := range found {
		page.Items = append(page.Items, showChange(&found[i]))
	}
	if len(found) == most {
		page.Next = strconv.FormatInt(found[most-1].ID, 10)
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) undo(c *gin.Context) error {
	id, err := strconv.ParseInt(c.Param("change"), 10, 64)
	if err != nil {
		return &keep.FieldError{Field: "change", Say: "it must be the number of a change"}
	}
	made, err := s.Office.Undo(c.Request.Context(), actor(c), id)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, showChange(&made))
	return nil
}

func (s *Server) identity(c *gin.Context) error {
	now, err := s.Office.Identity(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Identity(now))
	return nil
}

func (s *Server) setIdentity(c *gin.Context) error {
	var ask api.IdentityChange
	if err := body(c, &ask); err != nil {
		return err
	}
	now, err := s.Office.Identity(c.Request.Context())
	if err != nil {
		return err
	}
	put(&now.Name, ask.Name)
	put(&now.Host, ask.Host)
	if err := s.Office.SetIdentity(c.Request.Context(), actor(c), now); err != nil {
		return err
	}
	return s.identity(c)
}
