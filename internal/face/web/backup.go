package web

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
)

// backup streams a backup; for owners, who get all secrets with it.
func (s *Server) backup(c *gin.Context) error {
	c.Header("Content-Type", "application/gzip")
	c.Header("Content-Disposition", `attachment; filename="urbankeep-`+time.Now().UTC().Format("20060102T150405Z")+`.tar.gz"`)
	err := s.Office.Backup(c.Request.Context(), actor(c), c.Writer)
	if err != nil && c.Writer.Written() {
		if hasLeft(c, err) {
			return err
		}
		s.Log.Error("backup broke off", "cause", err)
		// The connection ends without its last chunk, so that nobody takes the part for the whole.
		return http.NewResponseController(c.Writer).SetWriteDeadline(time.Unix(1, 0))
	}
	return err
}
