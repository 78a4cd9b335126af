package audit

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"urbankeep/internal/keep"
)

const (
	// facility is "log audit" (RFC 5424, table 1).
	facility = 13
	// syslogID names the element that carries the fields of a record. The number is
	// the one that is reserved for documentation (RFC 5612): we have none of our own.
	syslogID = "record@32473"
)

// severity of each outcome (RFC 5424, table 2).
var severity = map[keep.Outcome]int{keep.Done: 6, keep.Interrupted: 5, keep.Refused: 4, keep.Failed: 3}

var factNames = keep.FactNames()

// Syslog is a record as one syslog message (RFC 5424) from a host, without framing.
// Its fields are structured data with the names of the API; seq tells what came twice.
func Syslog(host string, r *keep.AuditRecord) string {
	var b strings.Builder
	fmt.Fprintf(&b, "<%d>1 %s %s urbankeep - %s [%s", facility*8+severity[r.Outcome], r.At.UTC().Format("2006-01-02T15:04:05.000000Z07:00"), header(host, 255), header(string(r.Action), 32), syslogID)
	field := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, ` %s="%s"`, name, escaped(value))
		}
	}
	number := func(name string, n int64) {
		if n != 0 {
			field(name, strconv.FormatInt(n, 10))
		}
	}
	number("seq", r.Seq)
	field("account", r.Account)
	field("operator", r.Operator)
	field("address", r.Address)
	field("protocol", string(r.Protocol))
	if r.Protocol != "" {
		field("encrypted", strconv.FormatBool(r.Encrypted))
	}
	field("session", r.Session)
	field("path", r.Path)
	field("target", r.Target)
	number("offset", r.Offset)
	number("bytes", r.Bytes)
	if r.Duration > 0 {
		field("seconds", strconv.FormatFloat(r.Duration.Truncate(time.Microsecond).Seconds(), 'f', -1, 64))
	}
	field("outcome", string(r.Outcome))
	field("reason", string(r.Reason))
	field("detail", r.Detail)
	for i, value := range r.Values() {
		field(factNames[i], value)
	}
	b.WriteString("] ")
	words := []string{}
	for _, word := range []string{r.Account, r.Operator, string(r.Action), r.Path, r.Target, string(r.Outcome), string(r.Reason)} {
		if word != "" {
			words = append(words, visible(word))
		}
	}
	b.WriteString(strings.Join(words, " "))
	return b.String()
}

// header is a field of the header: printable ASCII without blanks (section 6).
func header(text string, most int) string {
	text = strings.Map(func(c rune) rune {
		if c <= ' ' || c > '~' {
			return '_'
		}
		return c
	}, text)
	if text == "" {
		return "-"
	}
	return text[:min(len(text), most)]
}

// escaped is a value of structured data: UTF-8, with what would end it escaped
// (section 6.3.3), and control characters shown.
func escaped(text string) string {
	if !utf8.ValidString(text) || strings.IndexFunc(text, unicode.IsControl) >= 0 {
		text = visible(text)
	}
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(text)
}
