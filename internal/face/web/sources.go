package web

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

func (s *Server) sources(c *gin.Context) error {
	all, err := s.DB.Sources(c.Request.Context())
	if err != nil {
		return err
	}
	page := api.Page[api.Source]{Items: []api.Source{}}
	for _, one := range all {
		shown, err := s.sourceOf(c.Request.Context(), one)
		if err != nil {
			return err
		}
		page.Items = append(page.Items, shown)
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) sourceOf(ctx context.Context, of keep.Source) (shown api.Source, err error) {
	shown.Source, shown.HasSecret = of, of.Secret != ""
	if shown.Accounts, err = s.DB.AccountsFrom(ctx, of.Name); err != nil {
		return shown, err
	}
	if running := s.Office.Book.Source(of.Name); running != nil {
		since, why := running.Away()
		if shown.AwaySince = api.Known(since); why != nil {
			shown.Trouble = why.Error()
		}
	}
	return shown, nil
}

func (s *Server) addSource(c *gin.Context) error { return s.saveSource(c, "", true) }

func (s *Server) setSource(c *gin.Context) error { return s.saveSource(c, c.Param("name"), false) }

func (s *Server) saveSource(c *gin.Context, name string, add bool) error {
	var given json.RawMessage
	if err := body(c, &given); err != nil {
		return err
	}
	if add {
		var named struct {
			Name string `json:"name"`
		}
		if err := json.Unmarshal(given, &named); err != nil {
			return strictly(given, &keep.Source{})
		}
		name = named.Name
	}
	saved, err := s.Office.SetSource(c.Request.Context(), actor(c), name, add, func(now *keep.Source) error {
		before := now.Name
		ask := api.SourceAsk{Source: now}
		if err := strictly(given, &ask); err != nil {
			return err
		}
		if ask.Apply(); now.Name != before {
			return &keep.FieldError{Field: "name", Say: "a source keeps its name"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	shown, err := s.sourceOf(c.Request.Context(), saved)
	if err != nil {
		return err
	}
	c.JSON(map[bool]int{true: http.StatusCreated, false: http.StatusOK}[add], shown)
	return nil
}

func (s *Server) removeSource(c *gin.Context) error {
	if err := s.Office.RemoveSource(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

// trySource checks a source step by step.
func (s *Server) trySource(c *gin.Context) error {
	var ask api.SourceTry
	if err := body(c, &ask); err != nil {
		return err
	}
	steps, err := s.Office.TrySource(c.Request.Context(), actor(c), c.Param("name"), source.Question{Name: keep.SignInName(ask.Account), Password: keep.Secret(ask.Password)})
	if err != nil {
		return err
	}
	answer := api.SourceTried{OK: true, Steps: list(steps)}
	for _, step := range steps {
		answer.OK = answer.OK && step.OK
	}
	c.JSON(http.StatusOK, answer)
	return nil
}

func (s *Server) routesNow(c *gin.Context) error {
	routes, err := s.Office.Routes(c.Request.Context())
	if err != nil {
		return err
	}
	return s.replyRoutes(c, routes)
}

func (s *Server) replyRoutes(c *gin.Context, routes []keep.Route) error {
	out, err := s.Office.ShutOut(c.Request.Context(), routes)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Routes{Routes: list(routes), ShutOut: out})
	return nil
}

func (s *Server) setRoutes(c *gin.Context) error {
	var ask api.Routes
	if err := body(c, &ask); err != nil {
		return err
	}
	routes, err := s.Office.SetRoutes(c.Request.Context(), actor(c), func([]keep.Route) ([]keep.Route, error) { return list(ask.Routes), nil })
	if err != nil {
		return err
	}
	return s.replyRoutes(c, routes)
}

// syncSource brings the accounts of a source in step with it, or says what that would do.
func (s *Server) syncSource(c *gin.Context) error {
	var ask api.SyncAsk
	if err := body(c, &ask); err != nil {
		return err
	}
	answer, err := s.Office.SyncSource(c.Request.Context(), actor(c), c.Param("name"), ask.Go, ask.Leavers)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, answer)
	return nil
}
