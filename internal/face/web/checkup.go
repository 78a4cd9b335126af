package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/checkup"
	"urbankeep/internal/keep"
)

func (s *Server) checkup(c *gin.Context) error {
	found, err := s.Office.Checkup(c.Request.Context(), actor(c).Role)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Checkup{Worst: string(found.Worst()), Findings: showFindings(found)})
	return nil
}

// sshPort is by which most machines are administered.
const sshPort = 22

func (s *Server) ports(c *gin.Context) error {
	management, err := number(c, "management")
	if err != nil {
		return err
	}
	if c.Query("management") == "" {
		management = sshPort
	}
	if management < 0 || management > 65535 {
		return &keep.FieldError{Field: "management", Say: "use a port from 1 to 65535, or 0 for none"}
	}
	found, err := s.Office.Ports(c.Request.Context(), int(management))
	if err != nil {
		return err
	}
	shown := api.Ports{Ports: []api.Port{}, Firewalls: checkup.Firewalls(), Commands: []string{}}
	for _, p := range found {
		shown.Ports = append(shown.Ports, api.Port(p))
	}
	if filter := c.Query("firewall"); filter != "" {
		if shown.Commands, err = checkup.Commands(filter, found); err != nil {
			return err
		}
	}
	c.JSON(http.StatusOK, shown)
	return nil
}
