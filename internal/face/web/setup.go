package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/checkup"
	"urbankeep/internal/desk/office"
)

func showFindings(found checkup.Findings) []api.Finding {
	shown := []api.Finding{}
	for _, f := range found {
		shown = append(shown, api.Finding{Check: f.Check, Of: f.Of, State: string(f.State), Says: f.Says, Do: f.Do})
	}
	return shown
}

func (s *Server) setupSteps(c *gin.Context) error {
	steps, err := s.Office.Setup(c.Request.Context(), actor(c).Role, c.Query("check"))
	if err != nil {
		return err
	}
	page := api.Page[api.SetupStep]{Items: []api.SetupStep{}}
	for _, one := range steps {
		page.Items = append(page.Items, api.SetupStep{Step: one.Step, Title: one.Title, Why: one.Why, State: string(one.State), Says: one.Says, Check: showFindings(one.Check)})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) markSetup(c *gin.Context) error {
	var ask api.SetupMark
	if err := body(c, &ask); err != nil {
		return err
	}
	if err := s.Office.MarkSetup(c.Request.Context(), c.Param("step"), office.SetupState(ask.State)); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
