package web

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
)

// locks lists the locks of WebDAV clients that hold now.
func (s *Server) locks(c *gin.Context) error {
	found, err := s.DB.Locks(c.Request.Context(), c.Query("account"), time.Now())
	if err != nil {
		return err
	}
	page := api.Page[api.Lock]{Items: []api.Lock{}}
	for _, l := range found {
		page.Items = append(page.Items, api.Lock{ID: api.LockID(l.Token), Account: l.Account, Store: l.Store, Path: l.Path, Deep: l.Deep, Shared: l.Shared, Created: l.Created.UTC(), Expires: l.Expires.UTC()})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) breakLock(c *gin.Context) error {
	if err := s.Office.BreakLock(c.Request.Context(), actor(c), c.Param("id")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
