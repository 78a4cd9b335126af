package audit

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

// Format writes records in a form that other programs read.
type Format struct {
	Name  string
	Media string // type of its content (RFC 2046)
	Head  string // what comes before the first record
	Line  func(w io.Writer, r *keep.AuditRecord) error
}

// Formats are the forms in which a trail goes out.
var Formats = []Format{
	{"csv", "text/csv; charset=utf-8", strings.Join(columns, ",") + "\n", writeCSV},                                   // RFC 4180
	{"jsonl", "application/jsonl", "", writeJSON},                                                                     // one object a line
	{"xferlog", "text/plain; charset=utf-8", "", writeTransfer},                                                       // the transfer log that log analysers read
	{"w3c", "text/plain; charset=utf-8", "#Version: 1.0\n#Software: Urban Keep\n#Fields: " + fields + "\n", writeW3C}, // W3C WD-logfile-960323
}

// FormatNamed finds a format. The error is a [*keep.FieldError].
func FormatNamed(name string) (Format, error) {
	var names []string
	for _, f := range Formats {
		if f.Name == name {
			return f, nil
		}
		names = append(names, f.Name)
	}
	return Format{}, &keep.FieldError{Field: "format", Say: fmt.Sprintf("%q is not known: use %s", name, strings.Join(names, ", "))}
}

var columns = append([]string{"seq", "time", "account", "operator", "address", "protocol", "encrypted", "session", "action", "path", "target", "offset", "bytes", "seconds", "outcome", "reason", "detail"}, factNames...)

// writeCSV writes a line (RFC 4180).
func writeCSV(w io.Writer, r *keep.AuditRecord) error {
	shown := api.RecordOf(r)
	cells := []string{fmt.Sprint(r.Seq), r.At.UTC().Format(time.RFC3339Nano), r.Account, r.Operator, r.Address, string(r.Protocol), fmt.Sprint(r.Encrypted), r.Session, string(r.Action),
		visible(r.Path), visible(r.Target), fmt.Sprint(r.Offset), fmt.Sprint(r.Bytes), fmt.Sprint(shown.Seconds), string(r.Outcome), string(r.Reason), visible(r.Detail)}
	cells = append(cells, shown.Values()...)
	for i, cell := range cells {
		cells[i] = Cell(cell)
	}
	out := csv.NewWriter(w)
	if err := out.Write(cells); err != nil {
		return err
	}
	out.Flush()
	return out.Error()
}

// Cell is a text that no spreadsheet takes for a formula: one that begins like it gets
// an apostrophe.
func Cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

// visible shows control characters, and bytes that are no UTF-8, as escapes.
func visible(text string) string {
	if utf8.ValidString(text) && strings.IndexFunc(text, func(r rune) bool { return !strconv.IsPrint(r) }) < 0 {
		return text
	}
	quoted := strconv.Quote(text)
	return quoted[1 : len(quoted)-1]
}

// writeJSON writes a record with the names of the API.
func writeJSON(w io.Writer, r *keep.AuditRecord) error {
	text, err := json.Marshal(api.RecordOf(r))
	if err != nil {
		return err
	}
	_, err = w.Write(append(text, '\n'))
	return err
}

// writeTransfer writes uploads and downloads, one a line: time, seconds, address,
// bytes, path, binary, no action, direction, real user, name, service, no
// authentication, complete or not. Blanks in it are underscores.
func writeTransfer(w io.Writer, r *keep.AuditRecord) error {
	direction := map[keep.Action]string{keep.Uploading: "i", keep.Downloading: "o"}[r.Action]
	if direction == "" {
		return nil
	}
	plain := func(text string) string {
		return strings.Map(func(c rune) rune {
			if c == ' ' || !strconv.IsPrint(c) {
				return '_'
			}
			return c
		}, text)
	}
	kind, complete := "r", "c"
	if r.Account == keep.Anonymous {
		kind = "a"
	}
	if r.Outcome != keep.Done {
		complete = "i"
	}
	_, err := fmt.Fprintf(w, "%s %d %s %d %s b _ %s %s %s %s 0 * %s\n", r.At.UTC().Format("Mon Jan _2 15:04:05 2006"), int64(r.Duration.Seconds()+0.5), dash(r.Address), r.Bytes, dash(plain(r.Path)),
		direction, kind, dash(plain(r.Account)), r.Protocol, complete)
	return err
}

const fields = "date time c-ip cs-username cs-method cs-uri-stem x-target sc-bytes cs-bytes time-taken x-protocol x-encrypted x-outcome x-reason x-session x-record"

// writeW3C writes the fields above; paths are escaped as those of URIs.
func writeW3C(w io.Writer, r *keep.AuditRecord) error {
	who := r.Account
	if r.Operator != "" {
		who = "operator:" + r.Operator
	}
	escape := func(text string) string { return dash((&url.URL{Path: text}).EscapedPath()) }
	down, up := int64(0), int64(0)
	if r.Action == keep.Uploading {
		up = r.Bytes
	} else {
		down = r.Bytes
	}
	_, err := fmt.Fprintf(w, "%s %s %s %s %s %s %d %d %.3f %s %t %s %s %s %d\n", r.At.UTC().Format("2006-01-02 15:04:05.000"), dash(r.Address), escape(who), r.Action, escape(r.Path), escape(r.Target),
		down, up, r.Duration.Seconds(), dash(string(r.Protocol)), r.Encrypted, r.Outcome, dash(string(r.Reason)), dash(r.Session), r.Seq)
	return err
}

func dash(text string) string {
	if text == "" {
		return "-"
	}
	return text
}
