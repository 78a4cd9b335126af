package web

import (
	"bufio"
	"net/http"
	"os"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

func (s *Server) retention(c *gin.Context) error {
	keeps, err := s.Office.Retention(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, keeps)
	return nil
}

func (s *Server) setRetention(c *gin.Context) error {
	var keeps keep.Retention
	if err := body(c, &keeps); err != nil {
		return err
	}
	if err := s.Office.SetRetention(c.Request.Context(), actor(c), keeps); err != nil {
		return err
	}
	return s.retention(c)
}

func (s *Server) showArchives(list []records.AuditArchive) api.Page[api.Archive] {
	page := api.Page[api.Archive]{Items: []api.Archive{}}
	for _, a := range list {
		shown := api.Archive{Name: a.Name, Created: a.Made, Records: a.Records, First: a.First, Last: a.Last, File: s.Seal.ArchiveFile(a.Name)}
		if info, err := os.Stat(shown.File); err == nil {
			shown.Bytes = info.Size()
		}
		page.Items = append(page.Items, shown)
	}
	return page
}

func (s *Server) archives(c *gin.Context) error {
	list, err := s.DB.Archives(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, s.showArchives(list))
	return nil
}

// makeArchives seals at once what the retention lets go.
func (s *Server) makeArchives(c *gin.Context) error {
	made, err := s.Office.Retire(c.Request.Context(), actor(c))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, s.showArchives(made))
	return nil
}

// readArchive streams the records of one archive that a search asks for.
func (s *Server) readArchive(c *gin.Context) error {
	query, err := auditQuery(c)
	if err != nil {
		return err
	}
	format, err := audit.FormatNamed(c.DefaultQuery("format", "jsonl"))
	if err != nil {
		return err
	}
	file, err := s.Office.ArchiveFile(c.Request.Context(), c.Param("name"))
	if err != nil {
		return err
	}
	c.Header("Content-Type", format.Media)
	out := bufio.NewWriterSize(c.Writer, 64<<10)
	out.WriteString(format.Head)
	err = audit.ReadArchive(file, func(r *records.ChainedRecord) error {
		if !query.Matches(&r.AuditRecord) {
			return nil
		}
		return format.Line(out, &r.AuditRecord)
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

func (s *Server) collector(c *gin.Context) error {
	now := s.Office.Collector.State(c.Request.Context())
	c.JSON(http.StatusOK, api.CollectorState{Address: now.Address, Trust: now.Trust, Connected: now.Connected, Sent: now.Sent, Waiting: now.Waiting, Trouble: now.Trouble, Since: now.Since})
	return nil
}

func (s *Server) setCollector(c *gin.Context) error {
	var to keep.Collector
	if err := body(c, &to); err != nil {
		return err
	}
	if err := s.Office.SetCollector(c.Request.Context(), actor(c), to); err != nil {
		return err
	}
	return s.collector(c)
}
