package demo

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
	"urbankeep/internal/service"
)

// Where in the city's folder lies what the stand-ins for the tide office and for a mail server get.
const (
	tideOfficeFile = "tide-office.jsonl"
	mailFolder     = "mail"
)

// maxStandIn bounds what a stand-in takes at once, maxLetters how many mails it keeps.
const maxStandIn, maxLetters = 1 << 20, 500

// listenToTellings starts the tide office, which is called when readings come, and the city's mail server. stop ends both.
func (c *city) listenToTellings() (web, mail string, stop func(), err error) {
	calls, err := os.OpenFile(filepath.Join(c.dir, tideOfficeFile), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return "", "", nil, err
	}
	if err := os.MkdirAll(filepath.Join(c.dir, mailFolder), 0o700); err != nil {
		return "", "", nil, err
	}
	one, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", "", nil, err
	}
	two, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		one.Close()
		return "", "", nil, err
	}
	var writing sync.Mutex
	site := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxStandIn))
		if err == nil {
			writing.Lock()
			_, err = calls.Write(append(body, '\n'))
			writing.Unlock()
		}
		if err != nil {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})}
	post := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &letterBox{dir: filepath.Join(c.dir, mailFolder)}, nil }))
	post.Domain, post.MaxMessageBytes, post.ErrorLog = "localhost", maxStandIn, log.New(io.Discard, "", 0)
	var serving sync.WaitGroup
	serving.Go(func() { site.Serve(one) })
	serving.Go(func() { post.Serve(two) })
	return "http://" + one.Addr().String() + "/readings", two.Addr().String(), func() {
		site.Close()
		post.Close()
		serving.Wait()
		calls.Close()
	}, nil
}

// letterBox takes mail and keeps it as files.
type letterBox struct{ dir string }

func (*letterBox) Mail(string, *smtp.MailOptions) error { return nil }
func (*letterBox) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (*letterBox) Reset()                               {}
func (*letterBox) Logout() error                        { return nil }

func (b *letterBox) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	kept, err := os.ReadDir(b.dir)
	if err != nil || len(kept) >= maxLetters {
		return err
	}
	return os.WriteFile(filepath.Join(b.dir, fmt.Sprintf("%d.eml", time.Now().UnixMicro())), text, 0o600)
}

// tell has the city's office told of what matters to it, from a day ago on.
func (c *city) tell(ctx context.Context, s *service.Service, who office.Actor, web, mail string) error {
	host, port, err := net.SplitHostPort(mail)
	if err != nil {
		return err
	}
	server := keep.MailServer{Host: host, Security: keep.MailClear, From: "Survey office files <files@portselwyn.example>"}
	fmt.Sscan(port, &server.Port)
	if err := s.Office.SetMailServer(ctx, who, server, nil); err != nil {
		return err
	}
	newest, err := s.DB.LastAudit(ctx)
	if err != nil {
		return err
	}
	const earlier = 40 // records of which they are told as well
	for _, r := range []keep.Receiver{
		{Name: "tide-office", Kind: keep.WebCall, Note: "draws the tide tables", URL: web, Private: true, Secret: keep.NewSigningSecret([]byte("the tides of port selwyn, 32 byte"))},
		{Name: "operations", Kind: keep.MailMessage, Note: "whoever is on duty", To: []string{"duty@portselwyn.example"}},
	} {
		if err := r.Check(); err != nil {
			return err
		}
		if err := s.DB.SaveReceiver(ctx, r, max(0, newest.Seq-earlier)); err != nil {
			return err
		}
	}
	for _, n := range []keep.Notice{
		{Name: "readings", Note: "each reading of a gauge", Events: []keep.Event{keep.EventUpload}, Groups: []string{"instruments"}, Receivers: []string{"tide-office"}},
		{Name: "late-reading", Note: "no reading in the last hour of the night", Events: []keep.Event{keep.EventUploadNotCome, keep.EventTroubleOver}, Accounts: []string{"gauge-north", "gauge-quay", "gauge-lock"},
			Expect: &keep.Expected{By: "06:00", Within: 3600}, Receivers: []string{"tide-office", "operations"}},
		{Name: "nightly-plates", Note: "the print bureau fetches them before three", Events: []keep.Event{keep.EventUploadNotCome, keep.EventTroubleOver}, Accounts: []string{"print-bureau"},
			Expect: &keep.Expected{Fetch: true, By: "03:00", Within: 3 * 3600}, Receivers: []string{"operations"}},
		{Name: "house", Note: "what somebody must see to", Receivers: []string{"operations"}, Events: []keep.Event{keep.EventQuotaNearly, keep.EventAccountEnds, keep.EventKeyEnds, keep.EventCertificateEnds,
			keep.EventListenerFailed, keep.EventStoreAway, keep.EventDiskNearly, keep.EventTrailStuck, keep.EventReceiverAway, keep.EventLockout, keep.EventTroubleOver}},
	} {
		if _, err := s.Office.SetNotice(ctx, who, n.Name, true, func(now *keep.Notice) error { *now = n; return nil }); err != nil {
			return err
		}
	}
	return nil
}
