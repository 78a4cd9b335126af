package api

import (
	"time"

	"urbankeep/internal/keep"
)

// Receiver is who is told, and how that does.
type Receiver struct {
	keep.Receiver
	Told    int        `json:"told"`  // of which is known what was said
	Aside   int        `json:"aside"` // things that it could not be told
	Waiting int64      `json:"waiting"`
	Queued  int        `json:"queued"`
	Trouble string     `json:"trouble,omitempty"` // why it does not go on
	Since   *time.Time `json:"since,omitempty"`
	Next    *time.Time `json:"next,omitempty"`   // when it is tried again
	Secret  string     `json:"secret,omitempty"` // of a new one, once: it signs the calls
}

// ReceiverHeader is a header of calls. Its value is never shown.
type ReceiverHeader struct {
	Name  string  `json:"name"`
	Value *string `json:"value,omitempty"` // null: as it is
}

// ReceiverAsk makes or changes a receiver; what is null stays as it is.
type ReceiverAsk struct {
	Name     string             `json:"name,omitempty"` // of a new one
	Kind     *keep.ReceiverKind `json:"kind,omitempty"`
	Note     *string            `json:"note,omitempty"`
	Off      *bool              `json:"off,omitempty"`
	Longest  *keep.Seconds      `json:"longest,omitempty"`
	URL      *string            `json:"url,omitempty"`
	Method   *string            `json:"method,omitempty"`
	Headers  *[]ReceiverHeader  `json:"headers,omitempty"`
	Body     *string            `json:"body,omitempty"`
	BodyType *string            `json:"bodyType,omitempty"`
	Trust    *string            `json:"trust,omitempty"`
	Timeout  *keep.Seconds      `json:"timeout,omitempty"`
	Private  *bool              `json:"private,omitempty"`
	Secret   *string            `json:"secret,omitempty"` // "": a new one is made
	To       *[]string          `json:"to,omitempty"`
	Digest   *keep.Seconds      `json:"digest,omitempty"`
}

// Edit changes a receiver as is asked.
func (a *ReceiverAsk) Edit(r *keep.Receiver) error {
	set(a.Kind, &r.Kind)
	set(a.Note, &r.Note)
	set(a.Off, &r.Off)
	set(a.Longest, &r.Longest)
	set(a.URL, &r.URL)
	set(a.Method, &r.Method)
	set(a.Body, &r.Body)
	set(a.BodyType, &r.BodyType)
	set(a.Trust, &r.Trust)
	set(a.Timeout, &r.Timeout)
	set(a.Private, &r.Private)
	set(a.To, &r.To)
	set(a.Digest, &r.Digest)
	if a.Secret != nil {
		r.Secret = keep.Secret(*a.Secret)
	}
	if a.Body != nil && *a.Body == "" {
		r.BodyType = ""
	}
	if a.Headers == nil {
		return nil
	}
	before := r.Headers
	r.Headers = nil
	for _, h := range *a.Headers {
		one := keep.Header{Name: h.Name}
		for _, was := range before {
			if was.Name == h.Name {
				one = was
			}
		}
		if h.Value != nil {
			one.Value, one.Kept = keep.Secret(*h.Value), false
		}
		r.Headers = append(r.Headers, one)
	}
	return nil
}

func set[T any](from, to *T) {
	if from != nil {
		*to = *from
	}
}

// ReceiverAnswer is what a receiver said to a sample.
type ReceiverAnswer struct {
	Receiver string  `json:"receiver"`
	Said     string  `json:"said"`
	Error    string  `json:"error"` // "": it was told
	Seconds  float64 `json:"seconds"`
}

// Told is something that a receiver was told, or could not be told.
type Told struct {
	ID       int64      `json:"id"`
	Receiver string     `json:"receiver"`
	Record   int64      `json:"record"` // in the audit trail; 0: it could not be recorded
	Event    keep.Event `json:"event"`
	Notices  []string   `json:"notices"`
	About    string     `json:"about"`
	Happened time.Time  `json:"happened"`
	At       time.Time  `json:"at"` // of the last try
	Tries    int        `json:"tries"`
	State    string     `json:"state"` // told, aside, or again: it is to be tried once more
	Answer   string     `json:"answer"`
}

// NoticeDryRun is what a notice would have told.
type NoticeDryRun struct {
	Since   time.Time     `json:"since"` // as far as it was looked
	Whole   bool          `json:"whole"` // that is as far as was asked
	Count   int64         `json:"count"`
	Records []AuditRecord `json:"records"` // the newest of them
}

// NoticeEvent is one that a notice can be about.
type NoticeEvent struct {
	Event keep.Event `json:"event"`
	Says  string     `json:"says"`
	Kind  string     `json:"kind"` // files, people or house
}

// NoticeEvents are all there are.
func NoticeEvents() []NoticeEvent {
	all := make([]NoticeEvent, len(keep.Events))
	for i, f := range keep.Events {
		all[i] = NoticeEvent{f.Event, f.Says, "house"}
		if f.Files {
			all[i].Kind = "files"
		} else if f.People {
			all[i].Kind = "people"
		}
	}
	return all
}

// Retried says how much is tried again.
type Retried struct {
	Retried int64 `json:"retried"`
}

// Trouble is something that is wrong now.
type Trouble struct {
	Kind  keep.Reason `json:"kind"`
	Of    string      `json:"of"`
	Says  string      `json:"says"`
	Since time.Time   `json:"since"`
}

// Held is an upload that waits for its check.
type Held struct {
	ID       string    `json:"id"`
	Account  string    `json:"account"`
	Pass     string    `json:"pass,omitempty"`
	Path     string    `json:"path"`
	Store    string    `json:"store"`
	Folder   string    `json:"folder"`
	Size     int64     `json:"size"`
	Receiver string    `json:"receiver"`
	State    string    `json:"state"` // coming: it is not whole yet; waiting
	Since    time.Time `json:"since"`
	Tries    int       `json:"tries"`
	Said     string    `json:"said,omitempty"` // by the receiver, of the last try
}

// HeldOf shows one.
func HeldOf(h *keep.Held) Held {
	since := h.Came
	if h.State == keep.HeldComing {
		since = h.Began
	}
	return Held{ID: h.ID, Account: h.Account, Pass: h.Pass, Path: h.Path, Store: h.Store, Folder: h.Folder, Size: h.Size, Receiver: h.Check.Receiver, State: string(h.State), Since: since.UTC(), Tries: h.Tries, Said: h.Said}
}

// HeldAnswer decides for an operator.
type HeldAnswer struct {
	Answer keep.CheckAnswer `json:"answer"`
	Reason string           `json:"reason,omitempty"`
}

// OwnNotices are what a holder is told by mail.
type OwnNotices struct {
	Mail   string        `json:"mail"`   // where it goes; "": the account has no address
	Ready  bool          `json:"ready"`  // mail can be sent
	Events []NoticeEvent `json:"events"` // of which they can be told
	Items  []OwnNotice   `json:"items"`
}

// OwnNotice is one of them.
type OwnNotice struct {
	ID     string       `json:"id"`
	Events []keep.Event `json:"events"`
	Path   string       `json:"path"` // "": it is not about files
	Self   bool         `json:"self"`
}

// OwnNoticeNew asks for one.
type OwnNoticeNew struct {
	Events []keep.Event `json:"events"`
	Path   string       `json:"path,omitempty"`
	Self   bool         `json:"self,omitempty"` // also what is done with the account itself
}

// MailServer is where mail is handed in. The password is never shown.
type MailServer struct {
	keep.MailServer
	PasswordSet bool `json:"passwordSet"`
}

// MailServerAsk changes it.
type MailServerAsk struct {
	keep.MailServer
	Password *string `json:"password,omitempty"` // null: as it is
}

// MailTest asks for a mail.
type MailTest struct {
	To string `json:"to"`
}

// MailTested is what the mail server said.
type MailTested struct {
	Said string `json:"said"`
}
