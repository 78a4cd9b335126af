package ftp

import (
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

func (c *conn) cmdCwd(arg string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	return c.enter(at)
}

func (c *conn) cmdCdup(string) error { return c.enter(path.Dir(c.cwd)) }

func (c *conn) enter(at string) error {
	if err := c.tree.MayEnter(at); err != nil {
		return err
	}
	c.cwd = at
	c.reply(250, "now in "+quote(at))
	return nil
}

func (c *conn) cmdPwd(string) error {
	c.reply(257, quote(c.cwd)+" is the current folder")
	return nil
}

// quote doubles the quotes in a path (RFC 959, appendix II).
func quote(at string) string { return `"` + strings.ReplaceAll(at, `"`, `""`) + `"` }

func (c *conn) cmdMkd(arg string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	if err := c.tree.Mkdir(at, nil); err != nil {
		return err
	}
	c.reply(257, quote(at)+" made")
	return nil
}

func (c *conn) cmdRmd(arg string) error { return c.change(arg, c.tree.Rmdir, "folder removed") }

func (c *conn) cmdDele(arg string) error { return c.change(arg, c.tree.Remove, "file deleted") }

func (c *conn) change(arg string, do func(string) error, say string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	if err := do(at); err != nil {
		return err
	}
	c.reply(250, say)
	return nil
}

func (c *conn) cmdRnfr(arg string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	if !c.tree.May(keep.Rename, at) {
		return keep.Refuse(keep.NoRight, "renaming needs the right rename here")
	}
	if _, err := c.tree.Lstat(at); err != nil {
		return err
	}
	c.renameFrom = at
	c.reply(350, "and the new name?")
	return nil
}

func (c *conn) cmdRnto(arg string) error {
	if c.renameFrom == "" {
		return fail{503, "RNFR comes right before RNTO"}
	}
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	if err := c.tree.Rename(c.renameFrom, at, true); err != nil {
		return err
	}
	c.reply(250, "renamed")
	return nil
}

// cmdAvbl tells how many bytes fit into a folder: what its quota or its disk leaves
// (draft-peterson-streamlined-ftp-command-extensions-10, section 4).
func (c *conn) cmdAvbl(arg string) error {
	at := c.cwd
	if arg != "" {
		var err error
		if at, err = c.path(arg); err != nil {
			return err
		}
	}
	space, err := c.tree.Space(at)
	if err != nil {
		return err
	}
	c.reply(213, fmt.Sprint(space.FreeBytes))
	return nil
}

// cmdSize is RFC 3659, section 4. In ASCII the size would be that of the
// converted file, which nobody knows without reading it.
func (c *conn) cmdSize(arg string) error {
	if c.ascii {
		return fail{550, "the size is known for TYPE I only"}
	}
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	info, err := c.tree.Stat(at)
	if err != nil {
		return err
	}
	if info.IsDir() {
		return keep.Refuse(keep.IsAFolder, "that is a folder")
	}
	c.reply(213, fmt.Sprint(info.Size()))
	return nil
}

// timeForm is the form of times in RFC 3659, section 2.3.
const timeForm = "20060102150405"

// cmdMdtm is RFC 3659, section 3; with a time before the path it sets that, as clients did
// before there was MFMT.
func (c *conn) cmdMdtm(arg string) error {
	at, err := c.path(arg)
	if stamp, name, set := strings.Cut(arg, " "); set && err == nil {
		if _, err := timeOf(stamp); err == nil {
			if _, err := c.tree.Lstat(at); err != nil { // nothing is named like that as a whole
				return c.setTime(stamp, name)
			}
		}
	}
	if err != nil {
		return err
	}
	info, err := c.tree.Stat(at)
	if err != nil {
		return err
	}
	c.reply(213, info.ModTime().UTC().Format(timeForm))
	return nil
}

// timeOf reads a time that a file may have: file systems know no other.
func timeOf(stamp string) (time.Time, error) {
	when, err := time.Parse(timeForm, stamp)
	if err == nil && (when.Year() < 1902 || when.Year() > 2400) {
		err = fail{501, "use a year from 1902 to 2400"}
	}
	return when, err
}

// cmdMfmt sets a file's time (draft-somers-ftp-mfxx).
func (c *conn) cmdMfmt(arg string) error {
	stamp, name, _ := strings.Cut(arg, " ")
	return c.setTime(stamp, name)
}

func (c *conn) setTime(stamp, name string) error {
	when, err := timeOf(stamp)
	if say, isFail := err.(fail); isFail {
		return say
	}
	if err != nil || name == "" {
		return fail{501, "use MFMT YYYYMMDDHHMMSS path"}
	}
	at, err := c.path(name)
	if err != nil {
		return err
	}
	if err := c.tree.Touch(at, time.Time{}, when, nil); err != nil {
		return err
	}
	c.reply(213, fmt.Sprintf("Modify=%s; %s", stamp, at))
	return nil
}

// cmdMfct would set a file's time of creation (draft-somers-ftp-mfxx, section 4).
func (c *conn) cmdMfct(string) error {
	return fail{504, "the time of creation is not kept here; MFMT sets the time of modification"}
}

// cmdMff sets facts of a file (draft-somers-ftp-mfxx, section 5).
func (c *conn) cmdMff(arg string) error {
	facts, name, _ := strings.Cut(arg, " ")
	var when time.Time
	var mode *fs.FileMode
	for fact := range strings.SplitSeq(strings.TrimSuffix(facts, ";"), ";") {
		key, value, _ := strings.Cut(fact, "=")
		var err error
		switch strings.ToLower(key) {
		case "modify":
			when, err = timeOf(value)
		case "unix.mode":
			var bits uint64
			bits, err = strconv.ParseUint(value, 8, 32)
			m := fs.FileMode(bits) & fs.ModePerm
			mode = &m
		default:
			return fail{504, "the facts modify and unix.mode can be set, no other"}
		}
		if say, isFail := err.(fail); isFail {
			return say
		}
		if err != nil {
			return fail{501, "use MFF modify=YYYYMMDDHHMMSS;unix.mode=0640; path"}
		}
	}
	if name == "" {
		return fail{501, "use MFF modify=YYYYMMDDHHMMSS;unix.mode=0640; path"}
	}
	at, err := c.path(name)
	if err != nil {
		return err
	}
	if err := c.tree.Touch(at, time.Time{}, when, mode); err != nil {
		return err
	}
	c.reply(213, facts+" "+at)
	return nil
}
