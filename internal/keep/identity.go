package keep

import (
	"net/netip"
	"regexp"
	"strings"
	"unicode"
)

// Identity is how the service presents itself.
type Identity struct {
	Name string `json:"name"` // what it is called, for people; "": nobody said
	Host string `json:"host"` // the name or IP address under which clients reach it; "": nobody said
}

// maxServiceName bounds the name, bytes.
const maxServiceName = 100

// hostName is a name as DNS has it (RFC 1123, section 2.1).
var hostName = regexp.MustCompile(`^([a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?\.)*[a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?$`)

// Check reports what is wrong as a [*FieldError].
func (i *Identity) Check() error {
	if len(i.Name) > maxServiceName || strings.ContainsFunc(i.Name, func(r rune) bool { return !unicode.IsPrint(r) }) {
		return &FieldError{"name", "use at most 100 bytes, and no control characters"}
	}
	if _, err := netip.ParseAddr(i.Host); i.Host != "" && err != nil && (len(i.Host) > 253 || !hostName.MatchString(i.Host)) {
		return &FieldError{"host", "use a host name or an IP address without a port, as in files.example.org"}
	}
	return nil
}
