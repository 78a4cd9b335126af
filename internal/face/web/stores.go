package web

import (
	"cmp"
	"errors"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/office"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
)

func (s *Server) stores(c *gin.Context) error {
	found, err := s.DB.Stores(c.Request.Context())
	if err != nil {
		return err
	}
	page := api.Page[api.Store]{Items: []api.Store{}}
	for _, one := range found {
		users, err := s.Office.StoreUsers(c.Request.Context(), one.Name)
		if err != nil {
			return err
		}
		page.Items = append(page.Items, s.storeOf(one, users))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) addStore(c *gin.Context) error {
	var ask api.StoreNew
	if err := body(c, &ask); err != nil {
		return err
	}
	made, key, err := s.Office.AddStore(c.Request.Context(), actor(c), keep.Store{Name: ask.Name, Kind: ask.Kind, Folder: ask.Folder, Site: ask.Site, Secret: keep.Secret(ask.Secret)}, keep.Secret(ask.Passphrase))
	if err != nil {
		return err
	}
	shown := s.storeOf(made, nil)
	shown.Key = key
	c.JSON(http.StatusCreated, shown)
	return nil
}

func (s *Server) storeOf(of keep.Store, users []string) api.Store {
	shown := api.Store{Name: of.Name, Kind: of.Kind, Where: of.Where(), Folder: of.Folder, Users: len(users), MountedBy: list(users[:min(len(users), api.MostUsers)]), Durability: of.Durability, Hashes: of.Hashes, Previews: of.Draws()}
	if of.Kind != keep.Disk {
		shown.Site = &of.Site
		shown.Recipient = s.Office.Stores.Recipient(of)
	}
	switch h := s.Office.Stores.Health(of); {
	case h.Away != nil:
		shown.Away = cmp.Or(errors.Unwrap(h.Away), h.Away).Error() // for operators, with real paths
	case h.Closed != nil:
		shown.Away = "it takes no writes: " + h.Closed.Error()
	}
	return shown
}

func (s *Server) setStore(c *gin.Context) error {
	var ask api.StoreChange
	if err := body(c, &ask); err != nil {
		return err
	}
	changed, err := s.Office.SetStore(c.Request.Context(), actor(c), c.Param("name"), func(s *keep.Store) {
		put(&s.Durability, ask.Durability)
		put(&s.Hashes, ask.Hashes)
		if ask.Previews != nil {
			s.Previews = map[bool]keep.Previews{true: keep.PreviewsOn, false: keep.PreviewsOff}[*ask.Previews]
		}
		put(&s.Site.User, ask.User)
		put(&s.Site.SecretFrom, ask.SecretFrom)
		put(&s.Site.KeyFile, ask.KeyFile)
		put(&s.Site.HostKeys, ask.HostKeys)
		put(&s.Site.Recipients, ask.Recipients)
		if ask.Secret != nil {
			s.Secret = keep.Secret(*ask.Secret)
		}
	})
	return s.storeShown(c, changed, err)
}

func (s *Server) markStore(c *gin.Context) error {
	changed, err := s.Office.MarkStore(c.Request.Context(), actor(c), c.Param("name"))
	return s.storeShown(c, changed, err)
}

func (s *Server) checkStore(c *gin.Context) error {
	found, err := s.Office.CheckStore(c.Request.Context(), actor(c), c.Param("name"))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, found)
	return nil
}

func (s *Server) storeMove(c *gin.Context) error {
	found, err := s.Office.Move(c.Param("name"))
	return reply(c, found, err)
}

func (s *Server) moveStore(c *gin.Context) error {
	var ask api.StoreMoveAsked
	if err := body(c, &ask); err != nil {
		return err
	}
	if ask.Dry {
		plan, err := s.Office.PlanMove(c.Request.Context(), c.Param("name"), ask.To)
		return reply(c, plan, err)
	}
	begun, err := s.Office.StartMove(c.Request.Context(), actor(c), c.Param("name"), ask.To)
	return reply(c, begun, err)
}

func (s *Server) stopStoreMove(c *gin.Context) error {
	ended, err := s.Office.StopMove(c.Request.Context(), actor(c), c.Param("name"))
	return reply(c, ended, err)
}

// reply answers with what was found.
func reply(c *gin.Context, found any, err error) error {
	if err == nil {
		c.JSON(http.StatusOK, found)
	}
	return err
}

func (s *Server) unlockStore(c *gin.Context) error {
	var ask api.Passphrase
	if err := body(c, &ask); err != nil {
		return err
	}
	unlocked, err := s.Office.UnlockStore(c.Request.Context(), actor(c), c.Param("name"), keep.Secret(ask.Passphrase))
	return s.storeShown(c, unlocked, err)
}

func (s *Server) storeShown(c *gin.Context, changed keep.Store, err error) error {
	if err != nil {
		return err
	}
	users, err := s.Office.StoreUsers(c.Request.Context(), changed.Name)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, s.storeOf(changed, users))
	return nil
}

func (s *Server) auditDurability(c *gin.Context) error {
	d, err := s.Office.Durability(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.AuditDurability{Durability: d})
	return nil
}

func (s *Server) setAuditDurability(c *gin.Context) error {
	var ask api.AuditDurability
	if err := body(c, &ask); err != nil {
		return err
	}
	if err := s.Office.SetDurability(c.Request.Context(), actor(c), ask.Durability); err != nil {
		return err
	}
	c.JSON(http.StatusOK, ask)
	return nil
}

func (s *Server) removeStore(c *gin.Context) error {
	if err := s.Office.RemoveStore(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) grounds(c *gin.Context) error {
	found, err := s.Office.Grounds(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Grounds{Grounds: list(found)})
	return nil
}

func (s *Server) setGrounds(c *gin.Context) error {
	var ask api.Grounds
	if err := body(c, &ask); err != nil {
		return err
	}
	if err := s.Office.SetGrounds(c.Request.Context(), actor(c), ask.Grounds); err != nil {
		return err
	}
	return s.grounds(c)
}

func (s *Server) gate(c *gin.Context) error {
	rules, err := s.Office.Gate(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Gate{Allow: rules.Allow, Deny: rules.Deny})
	return nil
}

func (s *Server) setGate(c *gin.Context) error {
	var ask api.Gate
	if err := body(c, &ask); err != nil {
		return err
	}
	if err := s.Office.SetGate(c.Request.Context(), actor(c), keep.Rules{Allow: ask.Allow, Deny: ask.Deny}, ask.Meant); err != nil {
		return err
	}
	return s.gate(c)
}

func (s *Server) quotas(c *gin.Context) error {
	found, err := window(c, s.Office.Quotas(), office.FullestFirst, func(q api.Quota) string { return q.Store + ":" + q.Folder })
	if err != nil {
		return err
	}
	for i := range found.Items {
		q := &found.Items[i]
		q.Accounts = s.Office.UsersOf(q.Store, q.Folder)
	}
	c.JSON(http.StatusOK, found)
	return nil
}

// quotaHistory answers with the samples of a folder in the last days.
func (s *Server) quotaHistory(c *gin.Context) error {
	days, err := number(c, "days")
	if err != nil {
		return err
	}
	if days <= 0 {
		days = 30
	}
	found, err := s.DB.PlaceHistory(c.Request.Context(), c.Query("store"), c.Query("folder"), time.Now().AddDate(0, 0, -int(days)))
	if err != nil {
		return err
	}
	page := api.Page[api.QuotaSample]{Items: []api.QuotaSample{}}
	for _, one := range found {
		page.Items = append(page.Items, api.QuotaSample{At: one.Time, Bytes: one.Bytes, Files: one.Files})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) recount(c *gin.Context) error {
	var ask api.QuotaPlace
	if err := body(c, &ask); err != nil {
		return err
	}
	d, err := s.Office.Recount(c.Request.Context(), actor(c), quota.Spot{Store: ask.Store, Path: ask.Folder})
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Recount{BytesBefore: d.BytesBefore, FilesBefore: d.FilesBefore, BytesNow: d.BytesNow, FilesNow: d.FilesNow})
	return nil
}
