package notice

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"text/template"
	"text/template/parse"
	"time"
	"unicode"
	"unicode/utf8"

	"urbankeep/internal/keep"
)

// Event is what happened, as a CloudEvent (CloudEvents 1.0, JSON format).
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        Data      `json:"data"`
}

// Data are the facts of an event.
type Data struct {
	Event     keep.Event `json:"event"`
	Over      bool       `json:"over,omitempty"`   // a trouble is over
	Says      string     `json:"says"`             // for people
	Notices   []string   `json:"notices"`          // that tell of it
	Sample    bool       `json:"sample,omitempty"` // it did not happen
	Record    int64      `json:"record"`           // its number in the audit trail
	Time      time.Time  `json:"time"`
	Account   string     `json:"account,omitempty"`
	Operator  string     `json:"operator,omitempty"`
	Address   string     `json:"address,omitempty"`
	Protocol  string     `json:"protocol,omitempty"`
	Encrypted bool       `json:"encrypted"`
	Session   string     `json:"session,omitempty"`
	Action    string     `json:"action"`
	Path      string     `json:"path,omitempty"`
	Target    string     `json:"target,omitempty"`
	Size      int64      `json:"size"`  // of the file, bytes
	Bytes     int64      `json:"bytes"` // that were moved
	Seconds   float64    `json:"seconds"`
	Replaced  bool       `json:"replaced,omitempty"`
	SHA256    string     `json:"sha256,omitempty"`
	Outcome   string     `json:"outcome"`
	Reason    string     `json:"reason,omitempty"`
	Detail    string     `json:"detail,omitempty"`
}

func eventOf(it *item, source, id string) Event {
	r := &it.r
	data := Data{Event: it.event, Over: it.over, Says: Says(it.event, it.over, r), Notices: it.notices, Sample: it.sample, Record: r.Seq, Time: r.At.UTC(), Account: r.Account, Operator: r.Operator, Address: r.Address,
		Protocol: string(r.Protocol), Encrypted: r.Encrypted, Session: r.Session, Action: string(r.Action), Path: r.Path, Target: r.Target, Size: r.Offset + r.Bytes, Bytes: r.Bytes,
		Seconds: r.Duration.Seconds(), Replaced: r.Replaced, SHA256: r.Hash, Outcome: string(r.Outcome), Reason: string(r.Reason), Detail: r.Detail}
	e := Event{SpecVersion: "1.0", ID: id, Source: source, Type: "urbankeep." + string(it.event), Subject: r.Path, Time: data.Time, ContentType: "application/json", Data: data}
	if it.over {
		e.Type += ".over"
	}
	if e.Subject == "" {
		e.Subject = r.Target
	}
	return e
}

// ParseBody reads a template of a body. It is one of text/template with the function json and no loops, for there is
// nothing to go round, and what one call makes the service do must have an end.
func ParseBody(text string) (*template.Template, error) {
	bad := func(say string) error { return &keep.FieldError{Field: "body", Say: say} }
	functions := template.FuncMap{"json": inJSON}
	for _, growing := range []string{"print", "println", "printf", "html", "js", "urlquery", "call"} { // what one makes of the last can get large
		functions[growing] = func(...any) (string, error) {
			return "", errors.New("there is no function " + growing + " here; there is json")
		}
	}
	t, err := template.New("body").Option("missingkey=error").Funcs(functions).Parse(text)
	if err != nil {
		return nil, bad("the template can't be read: " + strings.TrimPrefix(err.Error(), "template: "))
	}
	if len(t.Templates()) > 1 || loops(t.Root) {
		return nil, bad("leave range, define, template and block out of the template")
	}
	if err := t.Execute(new(bounded), Data{Notices: []string{}}); err != nil {
		return nil, bad("the template does not work: " + strings.TrimPrefix(err.Error(), "template: ") + "; docs/notices.md lists the fields")
	}
	return t, nil
}

func loops(node parse.Node) bool {
	switch n := node.(type) {
	case *parse.RangeNode, *parse.TemplateNode, *parse.BreakNode, *parse.ContinueNode:
		return true
	case *parse.ListNode:
		if n == nil {
			return false
		}
		for _, one := range n.Nodes {
			if loops(one) {
				return true
			}
		}
	case *parse.IfNode:
		return loops(n.List) || loops(n.ElseList)
	case *parse.WithNode:
		return loops(n.List) || loops(n.ElseList)
	}
	return false
}

// inJSON writes a value as JSON.
func inJSON(v any) (string, error) {
	text, err := json.Marshal(v)
	if len(text) > maxBody {
		return "", errLarge
	}
	return string(text), err
}

// bounded takes so much text and no more.
type bounded struct{ bytes.Buffer }

const maxBody = 256 << 10

var errLarge = errors.New("the body would be larger than 256 KiB")

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > maxBody {
		return 0, errLarge
	}
	return b.Buffer.Write(p)
}

// about says shortly what an item is about.
func about(it *item) string {
	said := it.r.Account
	if it.r.Path != "" {
		said = strings.TrimSpace(said + " " + it.r.Path)
	}
	if said == "" || it.r.Action == keep.Trouble || it.r.Action == keep.TroubleOver {
		said = strings.TrimSpace(it.r.Target + " " + it.r.Account)
	}
	if len(said) > 500 {
		said = strings.ToValidUTF8(said[:500], "") + "…"
	}
	return Visible(said)
}

// Visible shows control characters, and bytes that are no UTF-8, as escapes.
func Visible(text string) string {
	if utf8.ValidString(text) && strings.IndexFunc(text, func(r rune) bool { return !unicode.IsPrint(r) }) < 0 {
		return text
	}
	quoted := strconv.Quote(text)
	return quoted[1 : len(quoted)-1]
}

// Says tells of an event in a sentence.
func Says(e keep.Event, over bool, r *keep.AuditRecord) string {
	who := r.Account
	if who == "" {
		who = r.Operator
	}
	if who == "" {
		who = "somebody"
	}
	if r.Protocol == keep.ByPass {
		who = "a visitor with a pass of " + who
	}
	from := ""
	if r.Protocol != "" && r.Address != "" {
		from = fmt.Sprintf(", over %s from %s", r.Protocol, r.Address)
	}
	file := fmt.Sprintf("%s (%s)", r.Path, keep.SaySize(r.Offset+r.Bytes))
	said := ""
	switch e {
	case keep.EventUpload, keep.EventOverwrite:
		if said = who + " uploaded " + file; r.Replaced {
			said += ", in place of the file that was there"
		}
	case keep.EventDownload:
		said = who + " fetched " + file
	case keep.EventDelete:
		said = who + " deleted " + r.Path
	case keep.EventRename:
		said = who + " renamed " + r.Path + " to " + r.Target
	case keep.EventMkdir:
		said = who + " made the folder " + r.Path
	case keep.EventCutOff:
		said = fmt.Sprintf("the %s of %s by %s stopped after %s", r.Action, r.Path, who, keep.SaySize(r.Bytes))
	case keep.EventSignIn:
		said = who + " signed in"
	case keep.EventSignInRefused:
		said = "a sign-in as " + who + " was refused"
	case keep.EventLockout:
		if said = r.Address + " was locked out"; r.Account != "" {
			said = r.Account + " was locked out for " + r.Address
		}
		from = ""
	case keep.EventPassword:
		said = "the password of " + who + " was changed"
	case keep.EventPassUse:
		said = "the pass " + r.Target + " of " + r.Account + " was used"
	case keep.EventPassEnd:
		said, from = "the pass "+r.Target+" ended", ""
	default:
		said = r.Detail
		if over {
			said = "over: " + said
		}
		return Visible(said)
	}
	if r.Outcome != keep.Done && e != keep.EventCutOff && e != keep.EventSignInRefused && e != keep.EventLockout {
		said = string(r.Outcome) + ": " + said
	}
	said += from
	if r.Outcome != keep.Done && r.Detail != "" {
		said += ": " + r.Detail
	}
	return Visible(said)
}
