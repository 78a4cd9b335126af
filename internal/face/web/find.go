package web

import (
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

// mostFound bounds what one search by name answers: a list to pick from.
const mostFound = 20

// maxFind bounds what is looked for, in bytes: no name is longer.
const maxFind = 200

// find looks for accounts, groups and listeners by name.
func (s *Server) find(c *gin.Context) error {
	text := strings.TrimSpace(c.Query("text"))
	if text == "" || len(text) > maxFind {
		return &keep.FieldError{Field: "text", Say: "say a part of a name"}
	}
	found, err := s.DB.Find(c.Request.Context(), text, mostFound)
	if err != nil {
		return err
	}
	page := api.Page[api.Named]{Items: []api.Named{}}
	for _, f := range found {
		page.Items = append(page.Items, api.Named(f))
	}
	c.JSON(http.StatusOK, page)
	return nil
}
