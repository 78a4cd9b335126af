package web

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/office"
)

func (s *Server) shelf(c *gin.Context) error {
	all, err := s.Office.Shelf(c.Request.Context())
	if err != nil {
		return err
	}
	page := api.Page[api.ShelfKey]{Items: []api.ShelfKey{}}
	for _, k := range all {
		page.Items = append(page.Items, api.ShelfKeyOf(k))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// shelfAsk reads what is said of a key on the shelf.
func shelfAsk(c *gin.Context) (name string, ask office.ShelfAsk, err error) {
	var given api.ShelfAsk
	if err := body(c, &given); err != nil {
		return "", ask, err
	}
	ask = office.ShelfAsk{Text: given.Key, Owner: given.Owner, Note: given.Note, Authority: given.Authority, Rules: office.KeyRules{Expires: given.Expires}}
	if given.Networks != nil {
		ask.Rules.Networks, err = networksOf("networks", *given.Networks)
	}
	return given.Name, ask, err
}

func (s *Server) addShelfKey(c *gin.Context) error {
	name, ask, err := shelfAsk(c)
	if err != nil {
		return err
	}
	if ask.Text == nil {
		ask.Text = new(string)
	}
	k, err := s.Office.AddShelfKey(c.Request.Context(), actor(c), name, ask)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, api.ShelfKeyOf(k))
	return nil
}

func (s *Server) setShelfKey(c *gin.Context) error {
	_, ask, err := shelfAsk(c)
	if err != nil {
		return err
	}
	k, err := s.Office.SetShelfKey(c.Request.Context(), actor(c), c.Param("name"), ask)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.ShelfKeyOf(k))
	return nil
}

func (s *Server) removeShelfKey(c *gin.Context) error {
	if err := s.Office.RemoveShelfKey(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) attachShelfKey(c *gin.Context) error {
	var ask api.ShelfAttach
	if err := body(c, &ask); err != nil {
		return err
	}
	k, err := s.Office.AttachShelfKey(c.Request.Context(), actor(c), c.Param("name"), ask.Accounts)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.ShelfKeyOf(k))
	return nil
}

func (s *Server) detachShelfKey(c *gin.Context) error {
	if err := s.Office.DetachShelfKey(c.Request.Context(), actor(c), c.Param("name"), c.Param("account")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
