package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

func showGroup(g *keep.Group, members []string) api.Group {
	return api.Group{Name: g.Name, Note: g.Note, Settings: g.Settings, Sets: g.Sets(), Mounts: list(g.Mounts), Grants: list(g.Grants), Accounts: list(members), Created: g.Created, Changed: g.Changed}
}

func (s *Server) groups(c *gin.Context) error {
	found, err := s.DB.Groups(c.Request.Context())
	if err != nil {
		return err
	}
	members, err := s.Office.Members(c.Request.Context())
	if err != nil {
		return err
	}
	page := api.Page[api.Group]{Items: []api.Group{}}
	for _, g := range found {
		page.Items = append(page.Items, showGroup(g, members[g.Name]))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) replyGroup(c *gin.Context, status int, g *keep.Group, err error) error {
	if err != nil {
		return err
	}
	members, err := s.Office.Members(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(status, showGroup(g, members[g.Name]))
	return nil
}

func (s *Server) group(c *gin.Context) error {
	g, err := s.Office.Group(c.Request.Context(), c.Param("name"))
	return s.replyGroup(c, http.StatusOK, g, err)
}

func (s *Server) addGroup(c *gin.Context) error {
	var ask api.GroupNew
	if err := body(c, &ask); err != nil {
		return err
	}
	g := &keep.Group{Name: ask.Name, Note: ask.Note, Mounts: ask.Mounts, Grants: ask.Grants}
	err := g.Settings.PutAll(ask.Settings)
	if err == nil {
		err = s.Office.AddGroup(c.Request.Context(), actor(c), g)
	}
	return s.replyGroup(c, http.StatusCreated, g, err)
}

func (s *Server) setGroup(c *gin.Context) error {
	var ask api.GroupChange
	if err := body(c, &ask); err != nil {
		return err
	}
	g, err := s.Office.SetGroup(c.Request.Context(), actor(c), c.Param("name"), func(g *keep.Group) error {
		put(&g.Note, ask.Note)
		put(&g.Mounts, ask.Mounts)
		put(&g.Grants, ask.Grants)
		return g.Settings.PutAll(ask.Settings)
	})
	return s.replyGroup(c, http.StatusOK, g, err)
}

func (s *Server) deleteGroup(c *gin.Context) error {
	if err := s.Office.DeleteGroup(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
