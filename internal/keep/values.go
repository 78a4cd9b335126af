package keep

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"
)

// The values of settings. Each is read from text, as people give it, and from
// JSON: its text, or the number that JSON answers have. What can't be read is
// said in a sentence.

// Count is how many there may be; 0 is any number.
type Count int

// Bytes is a size or, where it is a speed, a number of bytes per second; 0 is any.
type Bytes int64

// Seconds is a length of time; 0 is the usual one.
type Seconds int64

// Mode is the mode bits that new files and folders don't get.
type Mode uint16

// Moment is a point in time; the zero one is always, or never.
type Moment struct{ time.Time }

// Protocols is a set of protocols; none is all of them but scp, which is old and has to be named.
type Protocols []Protocol

// Folders is a list of clean, absolute paths of the tree.
type Folders []string

// UnmarshalText reads a whole number.
func (c *Count) UnmarshalText(text []byte) error {
	n, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || n < 0 {
		return fmt.Errorf("%q is no whole number of at least 0", text)
	}
	*c = Count(n)
	return nil
}

// UnmarshalText reads what [ParseSize] reads.
func (b *Bytes) UnmarshalText(text []byte) error {
	n, err := parseSize(string(text))
	*b = Bytes(n)
	return err
}

// UnmarshalText reads a number of seconds or a length of time such as 10m or 1d.
func (s *Seconds) UnmarshalText(text []byte) error {
	word := strings.TrimSpace(string(text))
	if n, err := strconv.ParseInt(word, 10, 32); err == nil && n >= 0 {
		*s = Seconds(n)
		return nil
	}
	d, ok := parseLength(word)
	if !ok {
		return fmt.Errorf("%q is no length of time in whole seconds: use the form 90s, 10m, 1h30m or 1d", text)
	}
	*s = Seconds(d / time.Second)
	return nil
}

// text is the size with the largest unit in which it is whole.
func (b Bytes) text() string {
	for _, u := range sizeUnits {
		if size := int64(u.bytes); int64(b) >= size && int64(b)%size == 0 && size > 1 {
			return fmt.Sprintf("%d%siB", int64(b)/size, strings.ToUpper(u.names[1]))
		}
	}
	return strconv.FormatInt(int64(b), 10)
}

// text is the day or time, "never" for the zero one.
func (m Moment) text() string {
	switch t := m.UTC(); {
	case m.IsZero():
		return "never"
	case t.Equal(t.Truncate(24 * time.Hour)):
		return t.Format(time.DateOnly)
	default:
		return t.Format(time.RFC3339Nano)
	}
}

// text is the time in its usual form: 90s, 10m, 1h0m.
func (s Seconds) text() string {
	text := s.Duration().String()
	if s > 0 && s%60 == 0 {
		text = strings.TrimSuffix(text, "0s")
	}
	return text
}

// Duration is the time itself.
func (s Seconds) Duration() time.Duration { return time.Duration(s) * time.Second }

// UnmarshalText reads octal digits.
func (m *Mode) UnmarshalText(text []byte) error {
	n, err := strconv.ParseUint(strings.TrimSpace(string(text)), 8, 16)
	if err != nil || n > 0o777 {
		return fmt.Errorf("%q is no mask: use three octal digits, as in 027", text)
	}
	*m = Mode(n)
	return nil
}

// MarshalText writes octal digits.
func (m Mode) MarshalText() ([]byte, error) { return fmt.Appendf(nil, "%03o", uint16(m)), nil }

// Masks takes the mask's bits from a mode.
func (m Mode) Masks(mode fs.FileMode) fs.FileMode { return mode &^ fs.FileMode(m) }

// UnmarshalText reads a day or time as [ParseMoment] does, but nothing that counts from now, or
// "always" or "never" for none.
func (m *Moment) UnmarshalText(text []byte) error {
	word := strings.TrimSpace(string(text))
	if word == "" || word == "always" || word == "never" {
		m.Time = time.Time{}
		return nil
	}
	t, err := ParseMoment(word, time.Time{})
	if err != nil || word[0] < '0' || word[0] > '9' { // what counts from now
		return fmt.Errorf("%q is no day or time: use the form 2027-03-01 or 2027-03-01T18:00", text)
	}
	m.Time = t
	return nil
}

// String is the minute, in UTC.
func (m Moment) String() string { return m.UTC().Format("2006-01-02 15:04 MST") }

// usualProtocols are those by which accounts come where nothing is said.
var usualProtocols = Protocols{FTP, FTPS, SFTP, Portal, WebDAV}

// UnmarshalText reads names of protocols, joined by commas; "all" is all but scp, and "all,scp" those and scp.
func (p *Protocols) UnmarshalText(text []byte) error {
	*p = Protocols{}
	given := words(string(text))
	for _, word := range given {
		switch {
		case word != "all":
			*p = append(*p, Protocol(word))
		case len(given) > 1:
			*p = append(*p, usualProtocols...)
		}
	}
	return p.Check()
}

// Check refuses a word that is no protocol of accounts.
func (p Protocols) Check() error {
	for _, one := range p {
		if one != SCP && !slices.Contains(usualProtocols, one) {
			return fmt.Errorf("%q is not known: use ftp, ftps, sftp, scp, portal, dav or all", one)
		}
	}
	return nil
}

// Has reports whether a protocol may be used.
func (p Protocols) Has(one Protocol) bool {
	return slices.Contains(p, one) || len(p) == 0 && one != SCP
}

// UnmarshalText reads paths joined by commas.
func (f *Folders) UnmarshalText(text []byte) error {
	*f = Folders{}
	for _, word := range words(string(text)) {
		if word == "none" {
			continue
		}
		at, err := CleanPath("/", word)
		if err != nil || at == "/" {
			return fmt.Errorf("%q is no folder to make: use the form /incoming", word)
		}
		*f = append(*f, at)
	}
	return nil
}

func words(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' || r == '\n' })
}

// fromJSON reads a value from its text or from the number that stands for it.
func fromJSON(raw []byte, text interface{ UnmarshalText([]byte) error }) error {
	var word string
	if json.Unmarshal(raw, &word) != nil {
		word = string(raw)
	}
	return text.UnmarshalText([]byte(word))
}

// UnmarshalJSON reads a number or a text.
func (c *Count) UnmarshalJSON(raw []byte) error { return fromJSON(raw, c) }

// UnmarshalJSON reads a number or a text.
func (b *Bytes) UnmarshalJSON(raw []byte) error { return fromJSON(raw, b) }

// UnmarshalJSON reads a number or a text.
func (s *Seconds) UnmarshalJSON(raw []byte) error { return fromJSON(raw, s) }

// UnmarshalJSON reads a text.
func (m *Moment) UnmarshalJSON(raw []byte) error { return fromJSON(raw, m) }

// UnmarshalJSON reads a list or a text.
func (p *Protocols) UnmarshalJSON(raw []byte) error { return listFromJSON(raw, p) }

// UnmarshalJSON reads a list or a text.
func (f *Folders) UnmarshalJSON(raw []byte) error { return listFromJSON(raw, f) }

func listFromJSON(raw []byte, text interface{ UnmarshalText([]byte) error }) error {
	var list []string
	if json.Unmarshal(raw, &list) == nil {
		return text.UnmarshalText([]byte(strings.Join(list, ",")))
	}
	return fromJSON(raw, text)
}
