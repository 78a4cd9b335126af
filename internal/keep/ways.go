package keep

import (
	"fmt"
	"slices"
	"strings"
)

// Ways are the protocols over which a mount is there: each by its name, with ":ro" behind it where nothing in the mount may be
// changed over it; none: it is there over all. Over scp it is there as over sftp.
type Ways []string

// wayNames are the protocols that may stand in [Ways].
var wayNames = []Protocol{FTP, FTPS, SFTP, Portal, WebDAV, ByPass}

const readOnlyWay = ":ro"

// parseWays reads protocols joined by +, as in sftp+ftp:ro.
func parseWays(text string) (Ways, error) {
	w := Ways(strings.FieldsFunc(text, func(r rune) bool { return r == '+' }))
	if len(w) == 0 {
		return nil, fmt.Errorf("name the protocols over which the mount is there, as in protocols=sftp+ftp:ro")
	}
	return w, w.check()
}

func (w Ways) check() error {
	seen := map[string]bool{}
	for _, way := range w {
		name := strings.TrimSuffix(way, readOnlyWay)
		switch {
		case name == string(SCP):
			return fmt.Errorf("over scp a mount is there as over sftp: name that")
		case !slices.Contains(wayNames, Protocol(name)):
			return fmt.Errorf("%q is no protocol of a mount: use ftp, ftps, sftp, portal, dav, pass, each with :ro behind it where it is there to read", way)
		case seen[name]:
			return fmt.Errorf("%s is named twice", name)
		}
		seen[name] = true
	}
	return nil
}

// over says whether the mount is there over a protocol, and whether only to be read.
func (w Ways) over(p Protocol) (there, readOnly bool) {
	if p == SCP {
		p = SFTP
	}
	if len(w) == 0 || slices.Contains(w, string(p)) {
		return true, false
	}
	there = slices.Contains(w, string(p)+readOnlyWay)
	return there, there
}

// String is the ways in words.
func (w Ways) String() string {
	return strings.ReplaceAll(strings.Join(w, ", "), readOnlyWay, " (to read)")
}

// Over is the account as it is over a protocol. A mount that is not there keeps its place: nothing else shows through.
func (e *Effective) Over(p Protocol) *Effective {
	if !slices.ContainsFunc(e.Mounts, func(m Mount) bool { return len(m.Protocols) > 0 }) {
		return e
	}
	over := *e
	over.Mounts = slices.Clone(e.Mounts)
	for i := range over.Mounts {
		m := &over.Mounts[i]
		if there, readOnly := m.Protocols.over(p); !there {
			m.absent = p
		} else if readOnly {
			m.ReadOnly = true
		}
	}
	return &over
}
