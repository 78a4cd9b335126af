package web

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
)

// usualDays is how far a report looks back when it is not said.
const usualDays = 30

func (s *Server) reports(c *gin.Context) error {
	c.JSON(http.StatusOK, api.Page[api.ReportKnown]{Items: office.Reports()})
	return nil
}

// report answers with a table, as JSON or, where the request wants it, as CSV.
func (s *Server) report(c *gin.Context) error {
	days, err := number(c, "days")
	if err != nil {
		return err
	}
	if days < 0 || days > 36_500 {
		return &keep.FieldError{Field: "days", Say: "use 1 to 36500"}
	}
	if days == 0 {
		days = usualDays
	}
	now := time.Now().UTC()
	made, err := s.Office.Report(c.Request.Context(), c.Param("name"), office.ReportAsk{About: c.Query("about"), Since: now.AddDate(0, 0, -int(days)), Now: now})
	if err != nil {
		return err
	}
	if c.Query("format") != "csv" {
		c.JSON(http.StatusOK, made)
		return nil
	}
	c.Header("Content-Disposition", `attachment; filename="`+made.Name+`.csv"`)
	writeCSV(c, made.Columns, made.Rows)
	return nil
}
