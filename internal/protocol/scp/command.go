package scp

import (
	"path"
	"strings"

	"urbankeep/internal/keep"
)

// Command is what a client has started here.
type Command struct {
	To        bool // files come; else they are sent
	Recursive bool // with folders
	Times     bool // with times and modes
	Folder    bool // the target must be a folder
	Names     []Name
}

// Name is one that the client gave.
type Name struct {
	Text    string // as it is
	Pattern string // for [path.Match]; "": it has no wildcards
}

// maxCommand bounds a command, bytes.
const maxCommand = 64 << 10

// errWords goes to who sends what only a shell could do.
var errWords = keep.Refuse(keep.BadRequest, "this service has no shell: put names with blanks or special characters into quotes")

// Parse reads a command; is reports whether it starts scp at all.
func Parse(line string) (c *Command, is bool, err error) {
	first, _, _ := strings.Cut(strings.TrimLeft(line, " "), " ")
	if path.Base(first) != "scp" {
		return nil, false, nil
	}
	words, err := split(line)
	if err != nil {
		return nil, true, err
	}
	c = &Command{}
	way := byte(0)
	words = words[1:]
	for len(words) > 0 && len(words[0].Text) > 1 && words[0].Text[0] == '-' {
		flags := words[0].Text[1:]
		words = words[1:]
		if flags == "-" {
			break
		}
		for i := range len(flags) {
			switch flags[i] {
			case 't', 'f':
				if way != 0 && way != flags[i] {
					return nil, true, keep.Refuse(keep.BadRequest, "-t and -f at once: files go one way")
				}
				way = flags[i]
			case 'r':
				c.Recursive = true
			case 'p':
				c.Times = true
			case 'd':
				c.Folder = true
			case 'v', 'q', 'B', 'C', '1', '2', '4', '6': // what concerns the client only
			default:
				return nil, true, keep.Refuse(keep.BadRequest, "scp here knows no -"+string(flags[i]))
			}
		}
	}
	c.To, c.Names = way == 't', words
	switch {
	case way == 0:
		return nil, true, keep.Refuse(keep.BadRequest, "scp runs on your side: here it only answers")
	case len(words) == 0:
		return nil, true, keep.Refuse(keep.BadRequest, "no name was given")
	case c.To && len(words) > 1:
		return nil, true, keep.Refuse(keep.BadRequest, "there is more than one target: put a name with blanks into quotes")
	}
	return c, true, nil
}

// split takes a command apart as a shell would that expands nothing but wildcards: the result says where those were meant.
func split(line string) (words []Name, err error) {
	if len(line) > maxCommand || strings.ContainsAny(line, "\x00\n\r") {
		return nil, errWords
	}
	var text, pattern strings.Builder
	begun, wild := false, false
	end := func() {
		if begun {
			one := Name{Text: home(text.String())}
			if wild {
				one.Pattern = home(pattern.String())
			}
			words = append(words, one)
		}
		text.Reset()
		pattern.Reset()
		begun, wild = false, false
	}
	literally := func(b byte) {
		begun = true
		text.WriteByte(b)
		if strings.IndexByte(`*?[]\`, b) >= 0 {
			pattern.WriteByte('\\')
		}
		pattern.WriteByte(b)
	}
	for i := 0; i < len(line); i++ {
		switch b := line[i]; b {
		case ' ', '\t':
			end()
		case '\'':
			begun = true
			last := strings.IndexByte(line[i+1:], '\'')
			if last < 0 {
				return nil, errWords
			}
			for _, b := range []byte(line[i+1 : i+1+last]) {
				literally(b)
			}
			i += last + 1
		case '"':
			begun = true
			for i++; ; i++ {
				if i >= len(line) || line[i] == '`' || line[i] == '$' {
					return nil, errWords
				}
				if line[i] == '"' {
					break
				}
				if line[i] == '\\' && i+1 < len(line) && strings.IndexByte("\"\\$`", line[i+1]) >= 0 {
					i++
				}
				literally(line[i])
			}
		case '\\':
			if i++; i >= len(line) {
				return nil, errWords
			}
			literally(line[i])
		case '*', '?', '[':
			begun, wild = true, true
			text.WriteByte(b)
			pattern.WriteByte(b)
		case ']':
			begun = true
			text.WriteByte(b)
			pattern.WriteByte(b)
		case ';', '&', '|', '<', '>', '(', ')', '`', '$':
			return nil, errWords
		default:
			literally(b)
		}
	}
	end()
	return words, nil
}

// home makes a name that begins at the home one of the tree, whose top that is.
func home(name string) string {
	if name == "~" || strings.HasPrefix(name, "~/") {
		return "/" + strings.TrimPrefix(name[1:], "/")
	}
	return name
}
