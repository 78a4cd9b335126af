package handover

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// Facts are what a sheet is written from.
type Facts struct {
	Service     string // what it is called; "": Urban Keep
	Host        string
	Account     *keep.Effective
	Keys        []keep.Key
	Doors       []Door
	Disk        string // the address of its tree for WebDAV clients; "": the account can't use it
	Portal      string // its address for a browser; "": the account can't use it
	HostKeys    []HostKey
	Certificate Certificate
	Made        time.Time
}

// Door is a listener by which the account may come in.
type Door struct {
	keep.Listener
	Port int
}

// HostKey is a key by which SSH clients know the service.
type HostKey struct {
	Type        string
	Fingerprint string
	Line        string // as in known_hosts, behind the name
}

// Certificate is what FTP clients are shown.
type Certificate struct {
	Fingerprint string // SHA-256
	Until       time.Time
	SelfSigned  bool
	PEM         string
}

// Sheet is a hand-over sheet.
type Sheet struct {
	Title    string    `json:"title"`
	Account  string    `json:"account"`
	Created  time.Time `json:"created"`
	Sections []Section `json:"sections"`
}

// Section is one part of a sheet: rows, then commands.
type Section struct {
	Title    string    `json:"title"`
	Rows     []Row     `json:"rows"`
	Commands []Command `json:"commands"`
}

// Row is a label and what it stands for.
type Row struct {
	Label string `json:"label"`
	Text  string `json:"text"`
}

// Command is a line for a POSIX shell.
type Command struct {
	For  string `json:"for"`
	Line string `json:"line"`
}

func (s *Section) row(label, text string, args ...any) {
	s.Rows = append(s.Rows, Row{label, fmt.Sprintf(text, args...)})
}

func (s *Section) command(what, line string, args ...any) {
	s.Commands = append(s.Commands, Command{what, fmt.Sprintf(line, args...)})
}

// New writes the sheet of an account.
func New(f Facts) Sheet {
	service := f.Service
	if service == "" {
		service = "Urban Keep"
	}
	f.Doors = slices.DeleteFunc(slices.Clone(f.Doors), func(d Door) bool { return d.Stopped || !f.Account.MayEnter(d.Protocol) })
	s := Sheet{Title: service + ": how to connect as " + f.Account.Name, Account: f.Account.Name, Created: f.Made.UTC()}
	for _, write := range []func(*Facts) Section{where, signIn, know, reach, limits, commands} {
		if section := write(&f); len(section.Rows)+len(section.Commands) > 0 {
			section.Rows, section.Commands = append([]Row{}, section.Rows...), append([]Command{}, section.Commands...)
			s.Sections = append(s.Sections, section)
		}
	}
	return s
}

func where(f *Facts) Section {
	s := Section{Title: "Where"}
	s.row("Host", "%s", f.Host)
	for _, d := range f.Doors {
		switch d.Protocol {
		case keep.SFTP:
			if f.Account.MayUse(keep.SFTP) {
				s.row("SFTP", "port %d", d.Port)
			}
			if f.Account.MayUse(keep.SCP) {
				s.row("SCP", "port %d, for clients that know the old protocol only (scp -O)", d.Port)
			}
		case keep.FTPS:
			s.row("FTP over TLS", "port %d, TLS from the first byte (implicit); passive ports %d-%d", d.Port, d.PassiveLow, d.PassiveHigh)
		default:
			s.row("FTP", "port %d, %s; passive ports %d-%d", d.Port, encryption(f, d), d.PassiveLow, d.PassiveHigh)
		}
	}
	if f.Portal != "" {
		s.row("Browser", "%s", f.Portal)
	}
	if f.Disk != "" {
		s.row("WebDAV", "%s", f.Disk)
	}
	if len(f.Doors) == 0 && f.Portal == "" && f.Disk == "" {
		s.row("Protocols", "none is open to this account now")
	}
	return s
}

func encryption(f *Facts, d Door) string {
	policy := f.Account.Encryption
	if policy == keep.EncryptionByListener {
		policy = d.Encryption
	}
	switch policy {
	case keep.EncryptionOptional:
		return "TLS on request (explicit), without it everything goes in clear"
	case keep.EncryptionOff:
		return "without TLS: everything goes in clear"
	}
	return "TLS on request (explicit), which is required"
}

func signIn(f *Facts) Section {
	s, a := Section{Title: "Sign in"}, f.Account
	s.row("User name", "%s", a.Name)
	if a.Anonymous() {
		s.row("Password", "your e-mail address, or anything")
		return s
	}
	s.row("With", "%s", a.Means(len(f.Keys)))
	if a.PasswordHash != "" && a.SignInBy != keep.ByKey {
		say := "comes separately, never with this sheet"
		if a.MustChange {
			say += "; it must be changed at the first sign-in, over SFTP"
			if f.Portal != "" {
				say += " or in a browser"
			}
		}
		s.row("Password", "%s", say)
	}
	for _, k := range f.Keys {
		text := k.Type + " " + k.Fingerprint
		if !k.Expires.IsZero() {
			text += ", until " + k.Expires.UTC().Format(time.DateOnly)
		}
		s.row("Key "+k.Label, "%s", text)
	}
	return s
}

func (f *Facts) has(protocols ...keep.Protocol) bool {
	return slices.ContainsFunc(f.Doors, func(d Door) bool { return slices.Contains(protocols, d.Protocol) })
}

// knownHosts and trust are the files that the commands of a sheet use.
func (f *Facts) knownHosts() string { return f.Host + ".known_hosts" }
func (f *Facts) trust() string      { return f.Host + ".pem" }

// pinned reports whether clients need the certificate itself to know the service.
func (f *Facts) pinned() bool { return f.Certificate.SelfSigned && f.Certificate.PEM != "" }

func know(f *Facts) Section {
	s := Section{Title: "Know the service"}
	if f.has(keep.SFTP) {
		var lines []string
		for _, k := range f.HostKeys {
			s.row("Host key", "%s %s", k.Type, k.Fingerprint)
			for _, d := range f.Doors {
				if d.Protocol == keep.SFTP {
					lines = append(lines, quoted(knownName(f.Host, d.Port)+" "+k.Line))
				}
			}
		}
		s.command("its SSH host keys, as known_hosts lines", "printf '%%s\\n' %s > %s", strings.Join(lines, " "), quoted(f.knownHosts()))
	}
	if f.has(keep.FTP, keep.FTPS) {
		s.row("Certificate", "SHA-256 %s, until %s", f.Certificate.Fingerprint, f.Certificate.Until.UTC().Format(time.DateOnly))
		if f.pinned() {
			s.row("", "it is self-signed: give it to your client, or compare the fingerprint")
			s.command("its certificate", "printf '%%s\\n' %s > %s", quoted(strings.TrimSpace(f.Certificate.PEM)), quoted(f.trust()))
		}
	}
	return s
}

// knownName is a host as known_hosts names it.
func knownName(host string, port int) string {
	if port == 22 {
		return host
	}
	return fmt.Sprintf("[%s]:%d", host, port)
}

func limits(f *Facts) Section {
	s := Section{Title: "Limits"}
	for _, v := range f.Account.Values() {
		switch v.Name {
		case "allow", "deny", "validFrom", "validUntil", "maxSessions", "idleTime", "maxUpload", "speedUp", "speedDown", "sessionSpeedUp", "sessionSpeedDown", "quotaBytes", "quotaFiles":
			if v.From != "" && v.Say != "any" && v.Say != "any number" {
				s.row(upper(v.Label), "%s", v.Say)
			}
		}
	}
	return s
}

func upper(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

func commands(f *Facts) Section {
	s, a := Section{Title: "Commands"}, f.Account
	byKey := len(f.Keys) > 0 && a.SignInBy != keep.ByPassword
	for _, d := range f.Doors {
		name := quoted(a.Name + "@" + bracketed(f.Host))
		switch d.Protocol {
		case keep.SFTP:
			options := "-P " + fmt.Sprint(d.Port) + " -o StrictHostKeyChecking=yes -o UserKnownHostsFile=" + quoted(f.knownHosts())
			if byKey {
				options += " -o IdentitiesOnly=yes -i " + quoted(a.Name+".key")
			}
			what := "sftp"
			if byKey {
				what += ", with the private key in " + a.Name + ".key"
			}
			if a.MayUse(keep.SFTP) {
				s.command(what, "sftp %s %s", options, name)
			}
		default:
			if a.SignInBy == keep.ByKey || a.SignInBy == keep.ByBoth {
				continue // FTP knows passwords only
			}
			place := fmt.Sprintf("%s://%s:%d", d.Protocol, bracketed(f.Host), d.Port)
			secure := ""
			if d.Protocol == keep.FTP {
				secure = " --ssl-reqd"
			}
			trust, trustFile := "", ""
			if f.pinned() {
				trust, trustFile = " --cacert "+quoted(f.trust()), "set ssl:ca-file "+f.trust()+"; "
			}
			if d.Protocol == keep.FTP && d.Encryption == keep.EncryptionOff {
				secure, trust, trustFile = "", "", "set ftp:ssl-allow no; "
			} else {
				trustFile += "set ftp:ssl-force yes; set ftp:ssl-protect-data yes; "
			}
			s.command("curl: list the first folder", "curl%s%s --user %s %s/", secure, trust, quoted(a.Name), place)
			if to := dropsInto(a); to != "" {
				s.command("curl: upload a file", "curl%s%s --user %s -T FILE %s", secure, trust, quoted(a.Name), quoted(place+to))
			}
			s.command("lftp", "lftp -e %s -u %s %s", quoted(strings.TrimSuffix(trustFile, " ")), quoted(a.Name), place)
		}
	}
	return s
}

// bracketed is a host as it stands in addresses (RFC 3986, section 3.2.2).
func bracketed(host string) string {
	if strings.Contains(host, ":") {
		return "[" + host + "]"
	}
	return host
}

// quoted makes one word of a POSIX shell of a text.
func quoted(text string) string {
	if text != "" && strings.Trim(text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789@%+=:,./-_") == "" {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}
