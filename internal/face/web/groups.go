package web

import (
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

// mostMembers is how many of a group's accounts are named with it.
const mostMembers = 50

// showGroup is a group as it goes over HTTP.
func (s *Server) showGroup(c *gin.Context, g *keep.Group) (api.Group, error) {
	members, all, err := s.DB.Members(c.Request.Context(), g.Name, mostMembers)
	return api.Group{Name: g.Name, Note: g.Note, Settings: g.Settings, Sets: g.Sets(), Mounts: list(g.Mounts), Grants: list(g.Grants), Members: all, Accounts: list(members), Created: g.Created, Changed: g.Changed}, err
}

func (s *Server) groups(c *gin.Context) error {
	all, err := s.DB.Groups(c.Request.Context())
	if err != nil {
		return err
	}
	sets, err := settingNames(c)
	if err != nil {
		return err
	}
	if len(sets) > 0 {
		all = slices.DeleteFunc(slices.Clone(all), func(g *keep.Group) bool {
			return !slices.ContainsFunc(g.Sets(), func(s keep.SetValue) bool { return slices.Contains(sets, s.Name) })
		})
	}
	found, err := window(c, all, func(g *keep.Group) string { return strings.ToLower(g.Name) }, func(g *keep.Group) string { return g.Name + " " + g.Note })
	if err != nil {
		return err
	}
	page := api.Page[api.Group]{Items: []api.Group{}, Next: found.Next, Total: found.Total}
	for _, g := range found.Items {
		shown, err := s.showGroup(c, g)
		if err != nil {
			return err
		}
		page.Items = append(page.Items, shown)
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) replyGroup(c *gin.Context, status int, g *keep.Group, err error) error {
	if err != nil {
		return err
	}
	shown, err := s.showGroup(c, g)
	if err != nil {
		return err
	}
	c.JSON(status, shown)
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
