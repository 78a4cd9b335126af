package web

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
	"urbankeep/internal/watch/traffic"
)

func showSession(s traffic.SessionInfo) api.Session {
	return api.Session{ID: s.ID, Account: s.Account, Address: s.Address, Protocol: s.Protocol, Encrypted: s.Encrypted, Cipher: s.Cipher,
		Client: s.Client, Started: s.Since, Active: s.Active, Doing: s.Doing, Path: s.Path, Up: s.Up, Down: s.Down}
}

func showTransfer(t traffic.TransferInfo) api.Transfer {
	shown := api.Transfer{ID: t.ID, Session: t.Session, Account: t.Account, Address: t.Address, Protocol: t.Protocol, Encrypted: t.Encrypted,
		Action: t.Action, Path: t.Path, Offset: t.Offset, Total: t.Total, Bytes: t.Bytes, Rate: t.Rate, Left: left(&t), Started: t.Started, Ended: api.Known(t.Ended),
		Outcome: string(t.Outcome), Reason: t.Reason}
	end := t.Ended
	if shown.Outcome == "" {
		shown.Outcome, end = "running", time.Now()
	}
	shown.Seconds = end.Sub(t.Started).Seconds()
	return shown
}

// left is how many seconds a transfer will take, nil where that can't be known.
func left(t *traffic.TransferInfo) *float64 {
	if d := t.Left(); d >= 0 {
		return new(d.Seconds())
	}
	return nil
}

// endedTransfer is a transfer as its audit record tells it.
func endedTransfer(r keep.AuditRecord) api.Transfer {
	t := api.Transfer{ID: fmt.Sprintf("audit-%d", r.Seq), Seq: r.Seq, Session: r.Session, Account: r.Account, Address: r.Address,
		Protocol: r.Protocol, Encrypted: r.Encrypted, Action: r.Action, Path: r.Path, Offset: r.Offset, Total: -1, Bytes: r.Bytes,
		Started: r.At.Add(-r.Duration), Ended: &r.At, Seconds: r.Duration.Seconds(), Outcome: string(r.Outcome), Reason: r.Reason}
	if t.Seconds > 0 {
		t.Rate = int64(float64(t.Bytes) / t.Seconds)
	}
	return t
}

func (s *Server) sessions(c *gin.Context) error {
	var all []api.Session
	for _, info := range s.Traffic.Sessions() {
		all = append(all, showSession(info))
	}
	return replyWindow(c, all, func(one api.Session) string { return one.Started.Format(sortable) + one.ID },
		func(one api.Session) string {
			return strings.Join([]string{one.Account, one.Address, string(one.Protocol), one.Client, one.Path}, " ")
		})
}

func (s *Server) endSession(c *gin.Context) error {
	if err := s.Office.EndSession(actor(c), c.Param("id"), c.Query("reason")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) endTransfer(c *gin.Context) error {
	if err := s.Office.EndTransfer(actor(c), c.Param("id"), c.Query("reason")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

// transfers lists those that run, then those that have ended, newest first. The
// cursor belongs to the ended ones.
func (s *Server) transfers(c *gin.Context) error {
	query, err := auditQuery(c)
	if err != nil {
		return err
	}
	if len(query.Actions) == 0 {
		query.Actions = []keep.Action{keep.Uploading, keep.Downloading}
	}
	page := api.Page[api.Transfer]{Items: []api.Transfer{}}
	if query.Before == 0 && (query.Outcome == "" || query.Outcome == "running") {
		for _, t := range s.Traffic.Running() {
			if query.Account == "" || query.Account == t.Account {
				page.Items = append(page.Items, showTransfer(t))
			}
		}
	}
	found, next, err := s.search(c, query)
	if err != nil {
		return err
	}
	page.Next = next
	for _, r := range found {
		page.Items = append(page.Items, endedTransfer(r))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// search reads one page of the trail and the cursor of the next.
func (s *Server) search(c *gin.Context, query records.AuditQuery) ([]keep.AuditRecord, string, error) {
	found, next, err := s.DB.SearchAudit(c.Request.Context(), query)
	if err != nil || next == 0 {
		return found, "", err
	}
	return found, fmt.Sprint(next), nil
}

// auditQuery reads a search of the trail from the query.
func auditQuery(c *gin.Context) (q records.AuditQuery, err error) {
	q = records.AuditQuery{Account: c.Query("account"), Operator: c.Query("operator"), Address: c.Query("address"), Protocol: c.Query("protocol"),
		Session: c.Query("session"), Outcome: c.Query("outcome"), Reason: c.Query("reason"), PathBelow: c.Query("path"), PathHas: c.Query("has"), Text: c.Query("text")}
	if q.Networks, err = keep.ParseNetworks("network", c.Query("network")); err != nil {
		return q, err
	}
	for word := range strings.SplitSeq(c.Query("action"), ",") {
		if err := keep.CheckWord("action", word, keep.Actions); err != nil {
			return q, err
		}
		if word != "" {
			q.Actions = append(q.Actions, keep.Action(word))
		}
	}
	outcomes := keep.Outcomes
	if strings.HasSuffix(c.FullPath(), "/transfers") {
		outcomes = append(slices.Clone(outcomes), "running")
	}
	for _, wrong := range []error{keep.CheckWord("outcome", q.Outcome, outcomes), keep.CheckWord("reason", q.Reason, keep.Reasons), keep.CheckWord("protocol", q.Protocol, keep.AllProtocols)} {
		if wrong != nil {
			return q, wrong
		}
	}
	if q.Limit, err = limit(c); err != nil {
		return q, err
	}
	if q.Before, err = number(c, "before"); err != nil {
		return q, err
	}
	if q.Since, err = moment(c, "since"); err != nil {
		return q, err
	}
	q.Until, err = moment(c, "until")
	return q, err
}

func (s *Server) audit(c *gin.Context) error {
	query, err := auditQuery(c)
	if err != nil {
		return err
	}
	waiting := s.Trail.Unwritten(&query) // while the disk takes no more, the newest are in the journal
	found, next, err := s.search(c, query)
	if err != nil {
		return err
	}
	page := api.Page[api.AuditRecord]{Items: []api.AuditRecord{}, Next: next}
	for i := range waiting {
		if len(found) == 0 || waiting[i].Seq > found[0].Seq {
			page.Items = append(page.Items, api.RecordOf(&waiting[i]))
		}
	}
	for i := range found {
		page.Items = append(page.Items, api.RecordOf(&found[i]))
	}
	if len(page.Items) > query.Limit {
		page.Items = page.Items[:query.Limit]
		page.Next = fmt.Sprint(page.Items[query.Limit-1].Seq)
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// countAudit tells how many records a search would find.
func (s *Server) countAudit(c *gin.Context) error {
	query, err := auditQuery(c)
	if err != nil {
		return err
	}
	count, more, err := s.DB.CountAudit(c.Request.Context(), query)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.AuditCount{Count: count, More: more})
	return nil
}

// verify walks the trail. A request that follows it gets a line of JSON now and then
// that tells how far it is, and the report as the last one.
func (s *Server) verify(c *gin.Context) error {
	check := audit.Check{Seal: s.Seal, Trail: s.Trail}
	if line := c.Query("checkpoint"); line != "" {
		kept, err := s.Seal.ParseCheckpoint(line)
		if err != nil {
			return &keep.FieldError{Field: "checkpoint", Say: err.Error()}
		}
		check.Elsewhere = append(check.Elsewhere, kept)
	}
	lines := json.NewEncoder(c.Writer)
	if c.Query("follow") != "" {
		c.Header("Content-Type", "application/jsonl")
		var telling sync.Mutex
		var told time.Time
		check.Progress = func(checked, total int64) {
			telling.Lock()
			defer telling.Unlock()
			if time.Since(told) > progressPace {
				told = time.Now()
				lines.Encode(api.AuditProgress{Checked: checked, Total: total})
				c.Writer.Flush()
			}
		}
	}
	report, err := audit.Verify(c.Request.Context(), s.DB, check)
	if err != nil {
		return &keep.Fault{Reason: keep.Failure, Say: "the records can't all be read, so the chain is not proven: look at the log, and restore a backup", Cause: err}
	}
	shown := api.AuditReport{Checked: report.Checked, BadSeq: report.BadSeq, Problem: report.Problem, Checkpoints: report.Checkpoints, Key: s.Seal.Fingerprint(),
		Unsigned: report.Missing, Archived: report.Archived, Archives: report.Archives, Elsewhere: report.Elsewhere, Waiting: report.Waiting}
	if check.Progress != nil {
		return lines.Encode(shown)
	}
	c.JSON(http.StatusOK, shown)
	return nil
}

// progressPace is how often progress is told.
const progressPace = 250 * time.Millisecond

// checkpoint gives the newest checkpoint, to be kept elsewhere.
func (s *Server) checkpoint(c *gin.Context) error {
	last := s.Seal.Last()
	if last.Seq == 0 {
		return keep.Refuse(keep.NotFound, "no checkpoint yet: one is made after ten minutes, or a thousand records")
	}
	c.JSON(http.StatusOK, api.Checkpoint{Seq: last.Seq, At: last.At, Line: last.String(), Key: s.Seal.Fingerprint()})
	return nil
}

// signCheckpoint signs how far the trail has come now, and gives that.
func (s *Server) signCheckpoint(c *gin.Context) error {
	if err := s.Trail.Sign(c.Request.Context()); err != nil {
		return err
	}
	return s.checkpoint(c)
}

// exportAudit streams the records that a search asks for, oldest first, from the
// place after which the request wants to go on.
func (s *Server) exportAudit(c *gin.Context) error {
	query, err := auditQuery(c)
	if err != nil {
		return err
	}
	format, err := audit.FormatNamed(c.DefaultQuery("format", "csv"))
	if err != nil {
		return err
	}
	after, err := number(c, "after")
	if err != nil {
		return err
	}
	c.Header("Content-Type", format.Media)
	c.Header("Content-Disposition", `attachment; filename="audit.`+format.Name+`"`)
	out := bufio.NewWriterSize(c.Writer, 64<<10)
	if after == 0 {
		out.WriteString(format.Head)
	}
	for {
		page, err := s.DB.AuditAfter(c.Request.Context(), after, exportPage)
		if err != nil {
			return err
		}
		for i := range page {
			after = page[i].Seq
			if query.Matches(&page[i].AuditRecord) {
				if err := format.Line(out, &page[i].AuditRecord); err != nil {
					return nil // the reader is gone
				}
			}
		}
		if len(page) < exportPage {
			out.Flush()
			return nil
		}
	}
}

// exportPage bounds the records read at once.
const exportPage = 2000
