package ftp

import (
	"cmp"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"
)

func (c *conn) cmdSite(arg string) error {
	verb, rest := parse(arg)
	switch verb {
	case "CHMOD":
		return c.siteChmod(rest)
	case "SYMLINK":
		return c.siteSymlink(rest)
	case "UTIME":
		return c.siteUtime(rest)
	case "HELP":
		c.reply(214, commands["SITE"].usage)
	default:
		return fail{504, "SITE knows CHMOD, SYMLINK, UTIME and HELP"}
	}
	return nil
}

// siteUtime sets a file's time in the two forms that clients send: one time and
// the path, to the minute or the second; or the path, three times (of which the
// second is the one of change) and UTC.
func (c *conn) siteUtime(arg string) error {
	words := strings.Fields(arg)
	stamp, name := "", ""
	if n := len(words); n >= 5 && strings.EqualFold(words[n-1], "UTC") {
		stamp, name = words[n-3], strings.Join(words[:n-4], " ")
	} else if n >= 2 {
		stamp, name = words[0], strings.TrimSpace(strings.TrimPrefix(arg, words[0]))
	}
	if len(stamp) == len("200601021504") {
		stamp += "00"
	}
	when, err := time.Parse(timeForm, stamp)
	if err != nil || name == "" {
		return fail{501, "use SITE UTIME YYYYMMDDHHMMSS path"}
	}
	at, err := c.path(name)
	if err != nil {
		return err
	}
	if err := c.tree.Touch(at, time.Time{}, when, nil); err != nil {
		return err
	}
	c.reply(200, "time changed")
	return nil
}

// siteChmod sets a mode, as the digits say or by letters as chmod(1) takes them. Special bits are
// left out: on this side no file runs as somebody else.
func (c *conn) siteChmod(arg string) error {
	wanted, name, _ := strings.Cut(arg, " ")
	if name == "" {
		return fail{501, "use SITE CHMOD mode path, with a mode such as 640 or u+x"}
	}
	at, err := c.path(name)
	if err != nil {
		return err
	}
	bits, err := strconv.ParseUint(wanted, 8, 32)
	mode := fs.FileMode(bits & 0o777)
	say := "mode changed"
	switch {
	case err == nil && bits > 0o7777:
		return fail{501, "a mode has four digits at the most, as in 0640"}
	case err == nil && bits > 0o777:
		say = fmt.Sprintf("mode changed to %o; special bits are not set here", mode)
	case err != nil:
		info, err := c.tree.Stat(at)
		if err != nil {
			return err
		}
		var ok bool
		if mode, ok = byLetters(wanted, info.Mode()); !ok {
			return fail{501, "use a mode such as 640, u+x or go-w,a=r"}
		}
	}
	if err := c.tree.Touch(at, time.Time{}, time.Time{}, &mode); err != nil {
		return err
	}
	c.reply(200, say)
	return nil
}

// byLetters is a mode changed as chmod(1) says: who, +, - or =, and the letters r, w, x and X.
func byLetters(text string, was fs.FileMode) (mode fs.FileMode, ok bool) {
	mode = was.Perm()
	for clause := range strings.SplitSeq(text, ",") {
		at := strings.IndexAny(clause, "+-=")
		if at < 0 {
			return 0, false
		}
		var who, bits fs.FileMode
		for _, letter := range cmp.Or(clause[:at], "a") {
			of, known := map[rune]fs.FileMode{'u': 0o700, 'g': 0o070, 'o': 0o007, 'a': 0o777}[letter]
			if !known {
				return 0, false
			}
			who |= of
		}
		for _, letter := range clause[at+1:] {
			bit, known := map[rune]fs.FileMode{'r': 0o444, 'w': 0o222, 'x': 0o111, 'X': 0}[letter]
			if !known {
				return 0, false
			}
			if letter == 'X' && (was.IsDir() || mode&0o111 != 0) {
				bit = 0o111
			}
			bits |= bit
		}
		switch clause[at] {
		case '+':
			mode |= bits & who
		case '-':
			mode &^= bits & who
		case '=':
			mode = mode&^who | bits&who
		}
	}
	return mode, true
}

// siteSymlink makes a link; a target with blanks can't be said so.
func (c *conn) siteSymlink(arg string) error {
	target, name, _ := strings.Cut(arg, " ")
	if name == "" {
		return fail{501, "use SITE SYMLINK target path"}
	}
	at, err := c.path(name)
	if err != nil {
		return err
	}
	if err := c.tree.Symlink(target, at); err != nil {
		return err
	}
	c.reply(200, "link made")
	return nil
}
