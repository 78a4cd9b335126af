package ftp

import (
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// cmdFeat lists the extensions (RFC 2389).
func (c *conn) cmdFeat(string) error {
	features := []string{"UTF8", "EPSV", "EPRT", "MDTM", "MFMT", "MFF modify;unix.mode;", "SIZE", "AVBL", "REST STREAM", "RANG STREAM", "TVFS", "HOST", "CLNT", "LANG EN*",
		c.hashFeature(), "MLST " + c.factFeature()}
	if c.server.TLS != nil {
		features = append(features, "AUTH TLS", "PBSZ", "PROT")
	}
	c.replyBlock(211, "Extensions:", features, "End")
	return nil
}

func (c *conn) cmdOpts(arg string) error {
	name, rest, _ := strings.Cut(arg, " ")
	switch strings.ToUpper(name) {
	case "UTF8", "UTF-8":
		if strings.EqualFold(strings.TrimSpace(rest), "OFF") {
			return fail{504, "names are UTF-8 always"}
		}
		c.reply(200, "names are UTF-8 always")
	case "MLST":
		c.chooseFacts(rest)
		c.reply(200, strings.TrimSpace("MLST OPTS "+strings.Join(append(slices.Clone(c.facts), ""), ";")))
	case "HASH":
		return c.optsHash(strings.TrimSpace(rest))
	default:
		return fail{501, "options are known for UTF8, MLST and HASH"}
	}
	return nil
}

func (c *conn) cmdHelp(arg string) error {
	if arg != "" {
		cmd, known := commands[strings.ToUpper(arg)]
		if !known {
			return fail{502, "that command is not known here"}
		}
		c.reply(214, cmd.usage)
		return nil
	}
	var rows []string
	names := verbs()
	for len(names) > 0 {
		n := min(10, len(names))
		rows = append(rows, strings.Join(names[:n], " "))
		names = names[n:]
	}
	c.replyBlock(214, "These commands are known:", rows, "HELP command shows how to use one")
	return nil
}

func (c *conn) cmdSyst(string) error {
	c.reply(215, "UNIX Type: L8")
	return nil
}

func (c *conn) cmdNoop(string) error {
	c.reply(200, "still here")
	return nil
}

func (c *conn) cmdClnt(arg string) error {
	c.visit.Named(arg)
	c.reply(200, "noted")
	return nil
}

func (c *conn) cmdLang(arg string) error {
	if arg != "" && !strings.HasPrefix(strings.ToLower(arg), "en") {
		return fail{504, "replies are in English only"}
	}
	c.reply(200, "replies are in English")
	return nil
}

// cmdStat tells how things are, or lists a path over the command connection
// (RFC 959, section 4.1.3).
func (c *conn) cmdStat(arg string) error {
	if arg == "" {
		c.replyBlock(211, "Status:", c.status(), "End")
		return nil
	}
	entries, err := c.entries(arg)
	if err != nil {
		return err
	}
	c.send("213-Listing:\r\n")
	last := "End"
	if err := entries.each(func(e entry) { c.send(" " + c.longLine(e) + "\r\n") }); err != nil {
		last = "The rest can't be read: " + keep.FaultOf(err).Say
	}
	c.send("213 " + last + "\r\n")
	return nil
}

func (c *conn) status() []string {
	clear := map[bool]string{true: "encrypted", false: "in clear"}
	rows := []string{"signed in as " + c.tree.Account(), "folder " + c.cwd, "commands " + clear[c.encrypted], "data " + clear[c.protected]}
	if r := c.transfer; r != nil {
		rows = append(rows, fmt.Sprintf("transferring for %s", time.Since(r.started).Round(time.Second)))
	}
	return rows
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

func (c *conn) cmdSite(arg string) error {
	verb, rest := parse(arg)
	switch verb {
	case "CHMOD":
		digits, name, _ := strings.Cut(rest, " ")
		bits, err := strconv.ParseUint(digits, 8, 32)
		if err != nil || bits > 0o777 || name == "" {
			return fail{501, "use SITE CHMOD mode path, with a mode such as 640"}
		}
		at, err := c.path(name)
		if err != nil {
			return err
		}
		mode := fs.FileMode(bits)
		if err := c.tree.Touch(at, time.Time{}, time.Time{}, &mode); err != nil {
			return err
		}
		c.reply(200, "mode changed")
	case "UTIME":
		return c.siteUtime(rest)
	case "HELP":
		c.reply(214, commands["SITE"].usage)
	default:
		return fail{504, "SITE knows CHMOD, UTIME and HELP"}
	}
	return nil
}
