package web

import (
	"encoding/json"
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/keep"
)

func (s *Server) limits(c *gin.Context) error {
	now, err := s.Office.Limits(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, now)
	return nil
}

// setLimits changes the limits that a request names.
func (s *Server) setLimits(c *gin.Context) error {
	var ask json.RawMessage
	if err := body(c, &ask); err != nil {
		return err
	}
	now, err := s.Office.SetLimits(c.Request.Context(), actor(c), func(l *keep.Limits) error { return strictly(ask, l) })
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, now)
	return nil
}
