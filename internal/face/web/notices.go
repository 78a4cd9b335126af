package web

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/notice"
)

// notices lists those of operators, or with own those of holders.
func (s *Server) notices(c *gin.Context) error {
	all, err := s.DB.Notices(c.Request.Context())
	if err != nil {
		return err
	}
	own := c.Query("own") == "true"
	page := api.Page[keep.Notice]{Items: []keep.Notice{}}
	for _, n := range all {
		if (n.Account != "") == own {
			page.Items = append(page.Items, n)
		}
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) addNotice(c *gin.Context) error {
	var ask keep.Notice
	if err := body(c, &ask); err != nil {
		return err
	}
	n, err := s.Office.SetNotice(c.Request.Context(), actor(c), ask.Name, true, func(n *keep.Notice) error {
		*n = ask
		n.Account, n.Self = "", false
		return nil
	})
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, n)
	return nil
}

// setNotice changes what a request names of a notice.
func (s *Server) setNotice(c *gin.Context) error {
	var ask json.RawMessage
	if err := body(c, &ask); err != nil {
		return err
	}
	n, err := s.Office.SetNotice(c.Request.Context(), actor(c), c.Param("name"), false, func(n *keep.Notice) error {
		var named map[string]json.RawMessage
		if err := json.Unmarshal(ask, &named); err != nil {
			return &exchange.Problem{Status: http.StatusBadRequest, Say: "the request is no object"}
		}
		for field, part := range map[string]func(){"window": func() { n.Window = nil }, "expect": func() { n.Expect = nil }} {
			if _, is := named[field]; is { // they are given whole
				part()
			}
		}
		name := n.Name
		if err := strictly(ask, n); err != nil {
			return err
		}
		n.Name, n.Account, n.Self = name, "", false
		return nil
	})
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, n)
	return nil
}

func (s *Server) removeNotice(c *gin.Context) error {
	if err := s.Office.RemoveNotice(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

// tryNotice sends a sample of a notice to its receivers.
func (s *Server) tryNotice(c *gin.Context) error {
	ctx := c.Request.Context()
	n, err := s.Office.Notice(ctx, c.Param("name"))
	if err != nil {
		return err
	}
	page := api.Page[api.ReceiverAnswer]{Items: []api.ReceiverAnswer{}}
	for _, name := range n.Receivers {
		r, err := s.DB.Receiver(ctx, name)
		if errors.Is(err, records.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		page.Items = append(page.Items, answerOf(name, s.Office.TryReceiver(ctx, r, []string{n.Name}, n.Events[0])))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func answerOf(name string, a notice.Answer) api.ReceiverAnswer {
	shown := api.ReceiverAnswer{Receiver: name, Said: a.Said, Seconds: a.Took.Seconds()}
	if a.Err != nil {
		shown.Error = a.Err.Error()
	}
	return shown
}

// dryRun says what a notice would have told; one that is not there yet can be given in the body.
func (s *Server) dryRun(c *gin.Context) error {
	n, err := s.Office.Notice(c.Request.Context(), c.Param("name"))
	if err != nil {
		return err
	}
	return s.wouldTell(c, &n)
}

func (s *Server) dryRunNew(c *gin.Context) error {
	var n keep.Notice
	if err := body(c, &n); err != nil {
		return err
	}
	n.Account, n.Self = "", false
	if err := s.Office.CheckNotice(c.Request.Context(), &n); err != nil {
		return err
	}
	return s.wouldTell(c, &n)
}

func (s *Server) wouldTell(c *gin.Context, n *keep.Notice) error {
	now := time.Now()
	since, err := keep.ParseMoment(c.DefaultQuery("since", "-1d"), now)
	if err != nil {
		return &keep.FieldError{Field: "since", Say: err.Error()}
	}
	run, err := s.Office.DryRun(c.Request.Context(), n, since, now)
	if err != nil {
		return err
	}
	shown := api.NoticeDryRun{Since: run.Since.UTC(), Whole: run.Whole, Count: run.Count, Records: make([]api.AuditRecord, len(run.Records))}
	for i := range run.Records {
		shown.Records[i] = api.RecordOf(&run.Records[i])
	}
	c.JSON(http.StatusOK, shown)
	return nil
}

func (s *Server) noticeEvents(c *gin.Context) error {
	c.JSON(http.StatusOK, api.Page[api.NoticeEvent]{Items: api.NoticeEvents()})
	return nil
}

// told lists what receivers were told.
func (s *Server) told(c *gin.Context) error {
	size, err := limit(c)
	if err != nil {
		return err
	}
	var before int64
	if text := c.Query("after"); text != "" {
		if before, err = strconv.ParseInt(text, 10, 64); err != nil || before < 1 {
			return &keep.FieldError{Field: "after", Say: "use the value of next"}
		}
	}
	state := records.ToldState(c.Query("state"))
	if err := keep.CheckWord("state", string(state), []records.ToldState{records.ToldIt, records.ToldAside, records.ToldAgain}); err != nil {
		return err
	}
	found, err := s.DB.ToldOf(c.Request.Context(), records.ToldQuery{Receiver: c.Query("receiver"), Notice: c.Query("notice"), State: state, Before: before, Limit: size + 1})
	if err != nil {
		return err
	}
	page := api.Page[api.Told]{Items: []api.Told{}}
	for i, t := range found {
		if i == size {
			page.Next = strconv.FormatInt(found[i-1].ID, 10)
			break
		}
		page.Items = append(page.Items, api.Told{ID: t.ID, Receiver: t.Receiver, Record: t.Seq, Event: t.Event, Notices: t.Notices, About: t.About, Happened: t.Happened.UTC(), At: t.At.UTC(), Tries: t.Tries, State: string(t.State), Answer: t.Answer})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// receivers lists who is told, and how that does.
func (s *Server) receivers(c *gin.Context) error {
	all, err := s.DB.Receivers(c.Request.Context())
	if err != nil {
		return err
	}
	page := api.Page[api.Receiver]{Items: []api.Receiver{}}
	for _, r := range all {
		if r.Account != "" && c.Query("own") != "true" {
			continue
		}
		if !actor(c).Role.MayChange() {
			r.URL = keep.Origin(r.URL) // the rest is often a secret
		}
		shown, err := s.receiverOf(c.Request.Context(), r)
		if err != nil {
			return err
		}
		page.Items = append(page.Items, shown)
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *Server) receiverOf(ctx context.Context, r keep.Receiver) (shown api.Receiver, err error) {
	shown.Receiver = r
	if shown.Told, err = s.DB.CountTold(ctx, r.Name, records.ToldIt); err != nil {
		return shown, err
	}
	if shown.Aside, err = s.DB.CountTold(ctx, r.Name, records.ToldAside); err != nil {
		return shown, err
	}
	if now, ok := s.Office.Teller.State(r.Name); ok {
		shown.Waiting, shown.Queued, shown.Trouble, shown.Since, shown.Next = now.Waiting, now.Queued, now.Trouble, api.Known(now.Since), api.Known(now.Next)
	}
	return shown, nil
}

func (s *Server) addReceiver(c *gin.Context) error {
	var ask api.ReceiverAsk
	if err := body(c, &ask); err != nil {
		return err
	}
	return s.saveReceiver(c, ask.Name, &ask, true)
}

func (s *Server) setReceiver(c *gin.Context) error {
	var ask api.ReceiverAsk
	if err := body(c, &ask); err != nil {
		return err
	}
	if ask.Name != "" {
		return &keep.FieldError{Field: "name", Say: "a receiver keeps its name"}
	}
	return s.saveReceiver(c, c.Param("name"), &ask, false)
}

func (s *Server) saveReceiver(c *gin.Context, name string, ask *api.ReceiverAsk, add bool) error {
	ctx := c.Request.Context()
	r, secret, err := s.Office.SetReceiver(ctx, actor(c), name, add, ask.Edit)
	if err != nil {
		return err
	}
	shown, err := s.receiverOf(ctx, r)
	if err != nil {
		return err
	}
	shown.Secret = secret.Reveal()
	c.JSON(map[bool]int{true: http.StatusCreated, false: http.StatusOK}[add], shown)
	return nil
}

func (s *Server) removeReceiver(c *gin.Context) error {
	if err := s.Office.RemoveReceiver(c.Request.Context(), actor(c), c.Param("name")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

// tryReceiver sends a receiver a sample.
func (s *Server) tryReceiver(c *gin.Context) error {
	r, err := s.DB.Receiver(c.Request.Context(), c.Param("name"))
	if errors.Is(err, records.ErrNotFound) {
		return keep.NoSuch("receiver", c.Param("name"))
	}
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, answerOf(r.Name, s.Office.TryReceiver(c.Request.Context(), r, []string{}, keep.EventUpload)))
	return nil
}

// retryAsk says what is to be tried again.
type retryAsk struct {
	ID int64 `json:"id,omitempty"` // 0: all
}

func (s *Server) retryReceiver(c *gin.Context) error {
	var ask retryAsk
	if err := body(c, &ask); err != nil {
		return err
	}
	n, err := s.Office.RetryReceiver(c.Request.Context(), actor(c), c.Param("name"), ask.ID)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.Retried{Retried: n})
	return nil
}

// troubles lists what is wrong now.
func (s *Server) troubles(c *gin.Context) error {
	found, err := s.DB.Troubles(c.Request.Context())
	if err != nil {
		return err
	}
	page := api.Page[api.Trouble]{Items: []api.Trouble{}}
	for _, t := range found {
		page.Items = append(page.Items, api.Trouble{Kind: t.Kind, Of: t.Of, Says: t.Says, Since: t.Since.UTC()})
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// held lists what waits for its check.
func (s *Server) held(c *gin.Context) error {
	all := s.Office.Live.Held()
	slices.SortFunc(all, func(a, b keep.Held) int { return cmp.Or(a.Began.Compare(b.Began), cmp.Compare(a.ID, b.ID)) })
	page := api.Page[api.Held]{Items: []api.Held{}}
	for i := range all {
		page.Items = append(page.Items, api.HeldOf(&all[i]))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// decideHeld lets a held upload in, or refuses it.
func (s *Server) decideHeld(c *gin.Context) error {
	var ask api.HeldAnswer
	if err := body(c, &ask); err != nil {
		return err
	}
	if err := s.Office.DecideHeld(actor(c), c.Param("id"), ask.Answer, ask.Reason); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) mailServer(c *gin.Context) error {
	m, err := s.Office.MailServer(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.MailServer{MailServer: m, PasswordSet: m.Password != ""})
	return nil
}

func (s *Server) setMailServer(c *gin.Context) error {
	var ask api.MailServerAsk
	if err := body(c, &ask); err != nil {
		return err
	}
	var password *keep.Secret
	if ask.Password != nil {
		password = new(keep.Secret(*ask.Password))
	}
	if err := s.Office.SetMailServer(c.Request.Context(), actor(c), ask.MailServer, password); err != nil {
		return err
	}
	return s.mailServer(c)
}

func (s *Server) tryMail(c *gin.Context) error {
	var ask api.MailTest
	if err := body(c, &ask); err != nil {
		return err
	}
	said, err := s.Office.TryMail(c.Request.Context(), ask.To)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, api.MailTested{Said: said})
	return nil
}
