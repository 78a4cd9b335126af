package keep

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
)

// Face is a part of the web that a listener may serve.
type Face string

// The faces.
const (
	ConsoleFace Face = "console" // operators: the console and the API
	PortalFace  Face = "portal"  // account holders, with a browser
	PassesFace  Face = "passes"  // links for people without an account
	DavFace     Face = "dav"     // account holders, with a WebDAV client
)

// Faces are all of them.
var Faces = []Face{ConsoleFace, PortalFace, PassesFace, DavFace}

// maxHosts bounds the names of one web listener.
const maxHosts = 100

func (l *Listener) checkWeb() error {
	if l.Protocol != Web {
		if len(l.Faces) > 0 || len(l.Hosts) > 0 || l.Redirect != "" || l.Forwarded != "" {
			return &FieldError{"protocol", "faces, host names, redirects and forwarded headers are for web listeners"}
		}
		return nil
	}
	for i, face := range l.Faces {
		if !slices.Contains(Faces, face) || slices.Contains(l.Faces[:i], face) {
			return &FieldError{"faces", fmt.Sprintf("%q is not known, or there twice: use console, portal, passes and dav", face)}
		}
	}
	if len(l.Hosts) > maxHosts {
		return &FieldError{"hosts", fmt.Sprintf("there are more than %d", maxHosts)}
	}
	for _, host := range l.Hosts {
		if !IsHostName(host) {
			return &FieldError{"hosts", fmt.Sprintf("%q is no host name: use one as in files.example.org, without a port", host)}
		}
	}
	if err := l.Forwarded.check(); err != nil {
		return err
	}
	switch {
	case l.Redirect == "" && len(l.Faces) == 0:
		return &FieldError{"faces", "say what it serves: console, portal, passes, dav"}
	case l.Redirect != "" && len(l.Faces) > 0:
		return &FieldError{"redirect", "a listener sends on (redirect) or serves faces: leave one of them empty"}
	case l.Redirect != "" && l.Encryption != EncryptionOff:
		return &FieldError{"redirect", "it sends from plain HTTP to TLS: its encryption must be off"}
	case l.Redirect == l.Name && l.Redirect != "":
		return &FieldError{"redirect", "it can't send to itself: name another web listener"}
	case l.Forwarded != "" && len(l.Proxies) == 0:
		return &FieldError{"forwarded", "name the proxies whose headers are believed (proxies)"}
	}
	if strings.Contains(l.Redirect, ":") {
		if to, err := url.Parse(l.Redirect); err != nil || to.Scheme != "https" || to.Host == "" || strings.TrimSuffix(l.Redirect, "/") != "https://"+to.Host {
			return &FieldError{"redirect", fmt.Sprintf("%q is neither a listener nor of the form https://files.example.org", l.Redirect)}
		}
	}
	return nil
}

// IsHostName reports whether text is a host name or an IP address, without a port. An
// asterisk may stand for its first label.
func IsHostName(text string) bool {
	if _, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return true
	}
	if text == "" || len(text) > 253 {
		return false
	}
	for label := range strings.SplitSeq(strings.TrimPrefix(text, "*."), ".") {
		if label == "" || len(label) > 63 || strings.Trim(label, "-") != label || strings.ContainsFunc(label, func(r rune) bool {
			return r != '-' && r != '_' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
		}) {
			return false
		}
	}
	return true
}

// Answers reports whether a web listener answers to the host of a request, with or without
// its port.
func (l *Listener) Answers(host string) bool {
	host = BareHost(host)
	return len(l.Hosts) == 0 || slices.ContainsFunc(l.Hosts, func(own string) bool {
		own = BareHost(own)
		if rest, any := strings.CutPrefix(own, "*"); any {
			label, ok := strings.CutSuffix(host, rest)
			return ok && label != "" && !strings.Contains(label, ".")
		}
		return own == host
	})
}

// BareHost is the host of a request in one form: small letters, without port, brackets and
// a dot at its end.
func BareHost(host string) string {
	if at, err := netip.ParseAddrPort(host); err == nil {
		return at.Addr().String()
	}
	if at := strings.LastIndexByte(host, ':'); at >= 0 && strings.Count(host, ":") == 1 {
		host = host[:at]
	}
	return strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
}

// Serves reports whether it serves a face and is not stopped.
func (l *Listener) Serves(face Face) bool {
	return l.Protocol == Web && !l.Stopped && slices.Contains(l.Faces, face)
}

// Loopback reports whether only this machine reaches the address of the listener.
func (l *Listener) Loopback() bool {
	host, _, _ := splitAddress(l.Address)
	at, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && at.IsLoopback()
}

// InClear reports whether a web listener without TLS can be reached from other machines and
// is not behind a proxy.
func (l *Listener) InClear() bool {
	return l.Protocol == Web && !l.Stopped && l.Encryption == EncryptionOff && len(l.Faces) > 0 && !l.Loopback() && len(l.Proxies) == 0
}
