package ftp

import (
	"sort"
	"strings"

	"urbankeep/internal/keep"
)

// argument says whether a command takes one.
type argument int

const (
	optional argument = iota
	required
	none
)

// command is one row of the table.
type command struct {
	run      func(*conn, string) error
	argument argument
	open     bool // may be used before the sign-in
	usage    string
}

// commands is the table of everything the server understands.
var commands map[string]command

func init() { // not a literal: HELP reads the table that holds it
	commands = map[string]command{
		// access
		"USER": {(*conn).cmdUser, required, true, "USER name"},
		"PASS": {(*conn).cmdPass, optional, true, "PASS password"},
		"ACCT": {(*conn).cmdAcct, optional, true, "ACCT account"},
		"REIN": {(*conn).cmdRein, none, true, "REIN"},
		"QUIT": {(*conn).cmdQuit, none, true, "QUIT"},
		"HOST": {(*conn).cmdHost, required, true, "HOST name"},
		"AUTH": {(*conn).cmdAuth, required, true, "AUTH TLS"},
		"PBSZ": {(*conn).cmdPbsz, required, true, "PBSZ 0"},
		"PROT": {(*conn).cmdProt, required, true, "PROT P | PROT C"},
		"CCC":  {(*conn).cmdCcc, none, true, "CCC"},
		// about
		"FEAT": {(*conn).cmdFeat, none, true, "FEAT"},
		"OPTS": {(*conn).cmdOpts, required, true, "OPTS UTF8 ON | OPTS MLST facts | OPTS HASH algorithm"},
		"HELP": {(*conn).cmdHelp, optional, true, "HELP [command]"},
		"SYST": {(*conn).cmdSyst, none, true, "SYST"},
		"NOOP": {(*conn).cmdNoop, optional, true, "NOOP"},
		"CLNT": {(*conn).cmdClnt, required, true, "CLNT software"},
		"LANG": {(*conn).cmdLang, optional, true, "LANG [en]"},
		"STAT": {(*conn).cmdStat, optional, false, "STAT [path]"},
		"SITE": {(*conn).cmdSite, required, false, "SITE CHMOD mode path | SITE SYMLINK target path | SITE UTIME YYYYMMDDHHMMSS path | SITE HELP"},
		// transfer
		"TYPE": {(*conn).cmdType, required, false, "TYPE A | TYPE I | TYPE L 8"},
		"STRU": {(*conn).cmdStru, required, false, "STRU F"},
		"MODE": {(*conn).cmdMode, required, false, "MODE S"},
		"PASV": {(*conn).cmdPasv, none, false, "PASV"},
		"EPSV": {(*conn).cmdEpsv, optional, false, "EPSV [1 | 2 | ALL]"},
		"PORT": {(*conn).cmdPort, required, false, "PORT h1,h2,h3,h4,p1,p2"},
		"EPRT": {(*conn).cmdEprt, required, false, "EPRT |family|address|port|"},
		"REST": {(*conn).cmdRest, required, false, "REST offset"},
		"RANG": {(*conn).cmdRang, required, false, "RANG first last"},
		"HASH": {(*conn).cmdHash, required, false, "HASH path"},
		"PRET": {(*conn).cmdPret, required, false, "PRET command"},
		"ALLO": {(*conn).cmdAllo, required, false, "ALLO bytes"},
		"RETR": {(*conn).cmdRetr, required, false, "RETR path"},
		"STOR": {(*conn).cmdStor, required, false, "STOR path"},
		"APPE": {(*conn).cmdAppe, required, false, "APPE path"},
		"STOU": {(*conn).cmdStou, optional, false, "STOU"},
		"ABOR": {(*conn).cmdAbor, none, false, "ABOR"},
		// folders and files
		"CWD":  {(*conn).cmdCwd, required, false, "CWD path"},
		"CDUP": {(*conn).cmdCdup, none, false, "CDUP"},
		"PWD":  {(*conn).cmdPwd, none, false, "PWD"},
		"MKD":  {(*conn).cmdMkd, required, false, "MKD path"},
		"RMD":  {(*conn).cmdRmd, required, false, "RMD path"},
		"DELE": {(*conn).cmdDele, required, false, "DELE path"},
		"RNFR": {(*conn).cmdRnfr, required, false, "RNFR path"},
		"RNTO": {(*conn).cmdRnto, required, false, "RNTO path"},
		"SIZE": {(*conn).cmdSize, required, false, "SIZE path"},
		"AVBL": {(*conn).cmdAvbl, optional, false, "AVBL [path]"},
		"MDTM": {(*conn).cmdMdtm, required, false, "MDTM [YYYYMMDDHHMMSS] path"},
		"MFMT": {(*conn).cmdMfmt, required, false, "MFMT YYYYMMDDHHMMSS path"},
		"MFCT": {(*conn).cmdMfct, required, false, "MFCT YYYYMMDDHHMMSS path"},
		"MFF":  {(*conn).cmdMff, required, false, "MFF modify=YYYYMMDDHHMMSS;unix.mode=0640; path"},
		"LIST": {(*conn).cmdList, optional, false, "LIST [path]"},
		"NLST": {(*conn).cmdNlst, optional, false, "NLST [path]"},
		"MLSD": {(*conn).cmdMlsd, optional, false, "MLSD [path]"},
		"MLST": {(*conn).cmdMlst, optional, false, "MLST [path]"},
	}
	for old, now := range map[string]string{"XCWD": "CWD", "XCUP": "CDUP", "XPWD": "PWD", "XMKD": "MKD", "XRMD": "RMD"} { // RFC 1123, section 4.1.3.1
		commands[old] = commands[now]
	}
	for old, algorithm := range map[string]string{"XCRC": "CRC32", "XMD5": "MD5", "XSHA": "SHA-1", "XSHA1": "SHA-1", "XSHA256": "SHA-256", "XSHA512": "SHA-512"} {
		commands[old] = command{cmdOld(algorithm), required, false, old + ` path | ` + old + ` "path" first last`}
	}
}

// parse splits a line into its verb, in upper case, and the rest.
func parse(text string) (verb, arg string) {
	verb, arg, _ = strings.Cut(text, " ")
	return strings.ToUpper(verb), arg
}

// dispatch runs one command.
func (c *conn) dispatch(text string) {
	verb, arg := parse(text)
	cmd, known := commands[verb]
	switch {
	case verb == "PROXY" && c.tree == nil:
		c.reply(421, "this address is no proxy of this listener: nobody is believed who they connect for; goodbye")
		c.quit = true
		return
	case !known:
		c.reply(500, "that command is not known here; HELP lists the ones that are")
		return
	case !cmd.open && c.tree == nil:
		c.reply(530, "sign in first: USER, then PASS")
		return
	case cmd.argument == required && strings.TrimSpace(arg) == "":
		c.reply(501, "an argument is missing: "+cmd.usage)
		return
	case cmd.argument == none && strings.TrimSpace(arg) != "":
		c.reply(501, "no argument goes here: "+cmd.usage)
		return
	}
	from := c.renameFrom
	if err := cmd.run(c, arg); err != nil {
		c.replyError(err)
		if usesData[verb] && c.data.ready() {
			c.letDown()
		}
	}
	if verb != "RNFR" && from != "" {
		c.renameFrom = "" // RNTO comes right after RNFR or not at all (RFC 959, section 4.1.3)
	}
}

// usesData are the commands that a data connection belongs to.
var usesData = map[string]bool{"RETR": true, "STOR": true, "APPE": true, "STOU": true, "LIST": true, "NLST": true, "MLSD": true}

// path makes a clean path of a command's argument.
func (c *conn) path(arg string) (string, error) { return keep.CleanPath(c.cwd, arg) }

func verbs() []string {
	var names []string
	for name := range commands {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}
