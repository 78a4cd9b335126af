package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
	"unicode"

	"urbankeep/internal/face/command"
)

// safe shows control characters as escapes: a file name must not steer the terminal.
func safe(text string) string {
	if strings.IndexFunc(text, func(r rune) bool { return !unicode.IsPrint(r) && r != ' ' }) < 0 {
		return text
	}
	quoted := strconv.Quote(text)
	return quoted[1 : len(quoted)-1]
}

// printJSON prints a value, indented.
func printJSON(w io.Writer, value any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(value)
}

// size shows bytes with a binary unit.
func size(n int64) string {
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	v, units := float64(n), "KMGTP"
	for i := range units {
		v /= 1024
		if v < 1023.95 || i == len(units)-1 {
			return fmt.Sprintf("%.1f %ciB", v, units[i])
		}
	}
	return ""
}

// rate shows bytes per second; of a moment that is too short it says nothing.
func rate(bytes int64, seconds float64) string {
	if seconds < 0.05 || bytes == 0 {
		return "-"
	}
	return size(int64(float64(bytes)/seconds)) + "/s"
}

// zone is where the reader is: one run of the program has one.
var zone atomic.Pointer[time.Location]

// showIn has times shown in a zone.
func showIn(name string) error {
	found, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return command.Usagef("-zone: there is no time zone %q: use a name as in Europe/Lisbon", name)
	}
	zone.Store(found)
	return nil
}

// in is a time where the reader is.
func in(t time.Time) time.Time {
	if z := zone.Load(); z != nil {
		return t.In(z)
	}
	return t.UTC()
}

// zoneName names the zone in which times are shown.
func zoneName() string { return in(time.Time{}).Location().String() }

const timeForm = "2006-01-02 15:04:05"

// at shows a time, "-" for none.
func at(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "-"
	}
	return in(*t).Format(timeForm)
}

// span shows a number of seconds.
func span(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// over shows a protocol, marking what went in clear.
func over(protocol string, encrypted bool) string {
	if protocol != "" && !encrypted {
		return protocol + " in clear"
	}
	return protocol
}

func dash(text string) string {
	if text == "" {
		return "-"
	}
	return text
}
