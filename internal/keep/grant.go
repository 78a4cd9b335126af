package keep

import (
	"bytes"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // windows name time zones, and not every machine has them
	"unicode"
	"unicode/utf8"
)

// Grant gives rights on a path of the tree and everything below it.
type Grant struct {
	Path   string   `json:"path"`
	Rights Rights   `json:"rights"`
	Only   []string `json:"only,omitempty"`   // patterns of names it counts for; none: all
	Never  []string `json:"never,omitempty"`  // patterns of names it does not count for, whatever Only says
	Window *Window  `json:"window,omitempty"` // when it counts; nil: always
	From   string   `json:"-"`                // the group that brings it, "" for the account itself
}

// Window is when a grant counts. Its zero value is always.
type Window struct {
	From  Moment `json:"from,omitzero"`
	Until Moment `json:"until,omitzero"`
	Days  string `json:"days,omitempty"`  // of the week: "mon-fri", "sat,sun"; "": every day
	Hours string `json:"hours,omitempty"` // "08:00-18:00"; "22:00-06:00" belongs to the day it begins on; "": all day
	Zone  string `json:"zone,omitempty"`  // in which days and hours are meant, as in Europe/Oslo; "": UTC
}

// times is a window prepared for decisions.
type times struct {
	from, until time.Time
	days        [7]bool
	low, high   int // minutes of the day; high ≤ low goes past midnight
	zone        *time.Location
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// prepare reports what is wrong with a window in a sentence.
func (w *Window) prepare() (*times, error) {
	t := &times{from: w.From.Time, until: w.Until.Time, high: 24 * 60, zone: time.UTC}
	if *w == (Window{Zone: w.Zone}) {
		return nil, fmt.Errorf("a window without days, hours or dates limits nothing: give one, or take it away")
	}
	if !t.from.IsZero() && !t.until.IsZero() && !t.from.Before(t.until) {
		return nil, fmt.Errorf("the window would end before it begins: give a later end")
	}
	var err error
	if w.Zone != "" {
		if t.zone, err = time.LoadLocation(w.Zone); err != nil || w.Zone == "Local" {
			return nil, fmt.Errorf("%q is no time zone: use a name as in Europe/Oslo", w.Zone)
		}
	}
	if w.Days == "" {
		t.days = [7]bool{true, true, true, true, true, true, true}
	}
	for _, span := range words(strings.ToLower(w.Days)) {
		first, last, both := strings.Cut(span, "-")
		if !both {
			last = first
		}
		low, high := slices.Index(dayNames, first), slices.Index(dayNames, last)
		if low < 0 || high < 0 {
			return nil, fmt.Errorf("%q are no days of the week: use the form mon-fri or sat,sun", w.Days)
		}
		for d := low; ; d = (d + 1) % 7 {
			t.days[d] = true
			if d == high {
				break
			}
		}
	}
	if w.Hours != "" {
		first, last, _ := strings.Cut(w.Hours, "-")
		var ok1, ok2 bool
		t.low, ok1 = minuteOf(first)
		t.high, ok2 = minuteOf(last)
		if !ok1 || !ok2 || t.low == t.high || t.low == 24*60 {
			return nil, fmt.Errorf("%q are no hours: use the form 08:00-18:00", w.Hours)
		}
	}
	return t, nil
}

// minuteOf reads "HH:MM", "24:00" among them.
func minuteOf(text string) (int, bool) {
	hours, minutes, ok := strings.Cut(text, ":")
	h, err1 := strconv.Atoi(hours)
	m, err2 := strconv.Atoi(minutes)
	ok = ok && err1 == nil && err2 == nil && len(minutes) == 2 && h >= 0 && m >= 0 && m < 60 && h*60+m <= 24*60
	return h*60 + m, ok
}

// open reports whether the window is open at a time.
func (t *times) open(now time.Time) bool {
	if now.Before(t.from) || !t.until.IsZero() && !now.Before(t.until) {
		return false
	}
	local := now.In(t.zone)
	day := local.Weekday()
	minute := local.Hour()*60 + local.Minute()
	if t.low < t.high {
		return t.days[day] && minute >= t.low && minute < t.high
	}
	return t.days[day] && minute >= t.low || t.days[(day+6)%7] && minute < t.high
}

// String says the window: "mon-fri 08:00-18:00 Europe/Oslo".
func (w *Window) String() string {
	var said []string
	if !w.From.IsZero() {
		said = append(said, "from "+w.From.String())
	}
	if !w.Until.IsZero() {
		said = append(said, "until "+w.Until.String())
	}
	for _, word := range []string{w.Days, w.Hours} {
		if word != "" {
			said = append(said, word)
		}
	}
	if w.Days != "" || w.Hours != "" {
		said = append(said, map[bool]string{true: "UTC", false: w.Zone}[w.Zone == ""])
	}
	return strings.Join(said, " ")
}

// like reports whether a name fits a pattern, in any case of its letters: "*" is
// any run of characters, "?" is one. It allocates nothing.
func like(pattern, name string) bool { return fits(pattern, name, true) }

// fits is like, with any case of the letters or only with theirs.
func fits(pattern, name string, anyCase bool) bool {
	star, again := -1, 0
	p, n := 0, 0
	for n < len(name) {
		pr, pw := utf8.DecodeRuneInString(pattern[p:])
		nr, nw := utf8.DecodeRuneInString(name[n:])
		switch {
		case p < len(pattern) && pr == '*':
			star, again = p, n
			p += pw
		case p < len(pattern) && (pr == '?' || pr == nr || anyCase && unicode.ToLower(pr) == unicode.ToLower(nr)):
			p, n = p+pw, n+nw
		case star >= 0:
			_, w := utf8.DecodeRuneInString(name[again:])
			again += w
			p, n = star+1, again
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}

// Like reports whether a name fits a pattern in which * is any run of characters and ? is one, in any case of its letters.
func Like(pattern, name string) bool { return like(pattern, name) }

func likeAny(patterns []string, name string) bool {
	for _, pattern := range patterns {
		if like(pattern, name) {
			return true
		}
	}
	return false
}

// checkGrants checks each, brings paths into their clean form, and refuses two
// that say the same of one path.
func checkGrants(grants []Grant) error {
	for i := range grants {
		g := &grants[i]
		if !strings.HasPrefix(g.Path, "/") || CheckPathName(g.Path) != nil {
			return &FieldError{"grants", fmt.Sprintf("the path %q must begin with a slash and hold no control characters", g.Path)}
		}
		g.Path = path.Clean(g.Path)
		for _, pattern := range slices.Concat(g.Only, g.Never) {
			if pattern == "" || strings.ContainsAny(pattern, "/[]\\,; ") || CheckPathName(pattern) != nil {
				return &FieldError{"grants", fmt.Sprintf("%q is no pattern of names: use letters with * and ?, as in *.tif", pattern)}
			}
		}
		if g.Window != nil {
			if *g.Window == (Window{}) {
				g.Window = nil
			} else if _, err := g.Window.prepare(); err != nil {
				return &FieldError{"grants", err.Error()}
			}
		}
		for _, other := range grants[:i] {
			if other.Path == g.Path && other.conditions() == g.conditions() {
				return &FieldError{"grants", fmt.Sprintf("two grants on %s that count alike: join their rights in one", g.Path)}
			}
		}
	}
	return nil
}

// conditions says when the grant counts, "" for always.
func (g *Grant) conditions() string {
	var said []string
	if len(g.Only) > 0 {
		said = append(said, "only "+strings.Join(g.Only, " "))
	}
	if len(g.Never) > 0 {
		said = append(said, "never "+strings.Join(g.Never, " "))
	}
	if g.Window != nil {
		said = append(said, g.Window.String())
	}
	return strings.Join(said, ", ")
}

// Conditions says when the grant counts, "" for always: "only *.tif, mon-fri UTC".
func (g Grant) Conditions() string { return g.conditions() }

// ParseGrant reads "PATH=RIGHTS" with conditions behind it, joined by semicolons:
// only=*.tif,*.tiff never=*.exe from=2026-12-01 until=2027-01-01 days=mon-fri
// hours=08:00-18:00 zone=Europe/Oslo. The error is a [*FieldError].
func ParseGrant(text string) (Grant, error) {
	parts := strings.Split(text, ";")
	at, names, ok := strings.Cut(parts[0], "=")
	if !ok {
		return Grant{}, &FieldError{"grant", fmt.Sprintf("%q is not PATH=RIGHTS, as in /incoming=add-only", text)}
	}
	g := Grant{Path: at}
	var err error
	if g.Rights, err = ParseRights(names); err != nil {
		return g, &FieldError{"grant", err.Error()}
	}
	var w Window
	for _, part := range parts[1:] {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch name {
		case "only":
			g.Only = words(value)
		case "never":
			g.Never = words(value)
		case "from":
			err = w.From.UnmarshalText([]byte(value))
		case "until":
			err = w.Until.UnmarshalText([]byte(value))
		case "days":
			w.Days = value
		case "hours":
			w.Hours = value
		case "zone":
			w.Zone = value
		default:
			err = fmt.Errorf("%q is not known: use only=, never=, from=, until=, days=, hours= or zone=", part)
		}
		if err == nil && value == "" {
			err = fmt.Errorf("%s= says nothing: give it a value or leave it out", name)
		}
		if err != nil {
			return g, &FieldError{"grant", err.Error()}
		}
	}
	if w != (Window{}) {
		g.Window = &w
	}
	return g, nil
}

// UnmarshalJSON reads an object, or what [ParseGrant] reads.
func (g *Grant) UnmarshalJSON(raw []byte) (err error) {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		*g, err = ParseGrant(text)
		return err
	}
	type plain Grant
	return strictly(raw, (*plain)(g))
}

// strictly reads JSON without unknown fields.
func strictly(raw []byte, into any) error {
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.DisallowUnknownFields()
	return decoder.Decode(into)
}

// Text is the grant as [ParseGrant] reads it.
func (g Grant) Text() string {
	text := g.Path + "=" + g.Rights.String()
	add := func(name, value string) {
		if value != "" {
			text += ";" + name + "=" + value
		}
	}
	add("only", strings.Join(g.Only, ","))
	add("never", strings.Join(g.Never, ","))
	if w := g.Window; w != nil {
		if !w.From.IsZero() {
			add("from", w.From.text())
		}
		if !w.Until.IsZero() {
			add("until", w.Until.text())
		}
		add("days", w.Days)
		add("hours", w.Hours)
		add("zone", w.Zone)
	}
	return text
}
