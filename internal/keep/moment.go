package keep

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// momentForms are how days and times are written; what names no zone is UTC (ISO 8601).
var momentForms = []string{time.DateOnly, "2006-01-02T15:04", "2006-01-02T15:04:05", "2006-01-02 15:04", "2006-01-02 15:04:05", time.RFC3339, "2006-01-02T15:04Z07:00"}

var fromNow = regexp.MustCompile(`^([+-])(\d{1,6})(w|d|h|m|min|s)$`)

// ParseMoment reads a day (its first moment in UTC), a time, or a word such as now, today, yesterday, tomorrow,
// -7d or +90d, which count from now.
func ParseMoment(text string, now time.Time) (time.Time, error) {
	word := strings.TrimSpace(text)
	for _, form := range momentForms {
		if t, err := time.Parse(form, word); err == nil {
			return t.UTC(), nil
		}
	}
	now = now.UTC()
	today := now.Truncate(24 * time.Hour)
	switch word {
	case "now":
		return now, nil
	case "today":
		return today, nil
	case "yesterday":
		return today.AddDate(0, 0, -1), nil
	case "tomorrow":
		return today.AddDate(0, 0, 1), nil
	}
	if parts := fromNow.FindStringSubmatch(word); parts != nil {
		n, _ := strconv.Atoi(parts[2]) // six digits at the most
		by := time.Duration(n) * units[parts[3]]
		if parts[1] == "-" {
			by = -by
		}
		return now.Add(by), nil
	}
	return time.Time{}, fmt.Errorf("%q is no day or time: use the form 2027-03-01, 2027-03-01T18:00 (UTC), 2027-03-01T18:00:00+02:00, -7d, +90d, today or now", text)
}

// units are those of lengths of time.
var units = map[string]time.Duration{"w": 7 * 24 * time.Hour, "d": 24 * time.Hour, "h": time.Hour, "m": time.Minute, "min": time.Minute, "s": time.Second}

var lengths = regexp.MustCompile(`^(?:\d{1,9}(?:w|d|h|min|m|s))+$`)

// parseLength reads a length of time as in 90s, 10m, 1h30m, 1d or 2w.
func parseLength(word string) (d time.Duration, ok bool) {
	if !lengths.MatchString(word) {
		return 0, false
	}
	for word != "" {
		end := strings.IndexFunc(word, func(r rune) bool { return r < '0' || r > '9' })
		n, _ := strconv.Atoi(word[:end]) // nine digits at the most
		rest := strings.TrimLeft(word[end:], "wdhmins")
		d += time.Duration(n) * units[word[end:len(word)-len(rest)]]
		word = rest
		if d > 1<<31*time.Second {
			return 0, false
		}
	}
	return d, true
}
