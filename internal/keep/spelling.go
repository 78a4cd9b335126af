package keep

import (
	"strings"
	"unicode/utf8"
)

// What lies on a disk may have names that no wire can say: bytes that are not UTF-8,
// line breaks. They get a spelling, so that an administrator's files never vanish: each
// such byte is the mark U+FFFD and two hexadecimal digits. The mark itself, where a
// name has it, is written twice.
const mark = "\uFFFD"

const digits = "0123456789ABCDEF"

// unsayable reports whether a byte that stands alone needs a spelling.
func unsayable(b byte) bool { return b == '\r' || b == '\n' || b >= utf8.RuneSelf }

// Spell is how a name as it lies on the disk is written in the tree: valid UTF-8
// without line breaks. [Unspell] gives the name back.
func Spell(name string) string {
	if sayable(name) {
		return name
	}
	var b strings.Builder
	for i := 0; i < len(name); {
		r, size := utf8.DecodeRuneInString(name[i:])
		switch {
		case r == utf8.RuneError && size == 1 || r == '\r' || r == '\n':
			b.WriteString(mark)
			b.WriteByte(digits[name[i]>>4])
			b.WriteByte(digits[name[i]&15])
		case r == utf8.RuneError:
			b.WriteString(mark + mark)
		default:
			b.WriteString(name[i : i+size])
		}
		i += size
	}
	return b.String()
}

// sayable reports whether a name is written as it is.
func sayable(name string) bool {
	for i := range len(name) {
		if name[i] == '\r' || name[i] == '\n' || name[i] >= utf8.RuneSelf {
			return utf8.ValidString(name) && !strings.ContainsAny(name, "\r\n"+mark)
		}
	}
	return true
}

// Unspell is the name on the disk that a spelling stands for. A mark that begins no
// spelling stands for itself.
func Unspell(name string) string {
	if !strings.Contains(name, mark) {
		return name
	}
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(name, mark)
		b.WriteString(before)
		if !found {
			return b.String()
		}
		name = rest
		if strings.HasPrefix(rest, mark) {
			b.WriteString(mark)
			name = rest[len(mark):]
			continue
		}
		if len(rest) >= 2 {
			high, low := strings.IndexByte(digits, rest[0]), strings.IndexByte(digits, rest[1])
			if one := byte(high<<4 | low); high >= 0 && low >= 0 && unsayable(one) {
				b.WriteByte(one)
				name = rest[2:]
				continue
			}
		}
		b.WriteString(mark)
	}
}

// CheckNewName refuses a name for something new that could not be said as it is.
func CheckNewName(name string) error {
	if raw := Unspell(name); !utf8.ValidString(raw) || strings.ContainsAny(raw, "\r\n") {
		return Refuse(BadName, "a new name must be UTF-8, without line breaks")
	}
	return nil
}

// spellBytes spells the bytes of a client's path that are not UTF-8, and leaves the rest.
func spellBytes(name string) string {
	if utf8.ValidString(name) {
		return name
	}
	var b strings.Builder
	for i := 0; i < len(name); {
		r, size := utf8.DecodeRuneInString(name[i:])
		if r == utf8.RuneError && size == 1 {
			b.WriteString(Spell(name[i : i+1]))
		} else {
			b.WriteString(name[i : i+size])
		}
		i += size
	}
	return b.String()
}
