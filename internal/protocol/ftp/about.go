package ftp

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// cmdFeat lists the extensions (RFC 2389).
func (c *conn) cmdFeat(string) error {
	features := []string{"UTF8", "EPSV", "EPRT", "MDTM", "MFMT", "MFF modify;unix.mode;", "SIZE", "AVBL", "REST STREAM", "RANG STREAM", "TVFS", "HOST", "CLNT", "LANG EN*",
		"XCRC", "XMD5", "XSHA", "XSHA1", "XSHA256", "XSHA512", c.hashFeature(), "MLST " + c.factFeature()}
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

// cmdPret is what some clients send before PASV, for services of several machines; this one needs not know.
func (c *conn) cmdPret(string) error {
	c.reply(200, "noted")
	return nil
}
