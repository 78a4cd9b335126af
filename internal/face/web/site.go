package web

import (
	"context"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/keep"
)

// Came is how a request came: by a web listener, or, where that is nil, by the control socket.
type Came struct {
	Listener  *keep.Listener
	Encrypted bool // between the client and the service, or a proxy that is believed
}

type cameKey struct{}

// Come notes how a request came.
func Come(ctx context.Context, how Came) context.Context {
	return context.WithValue(ctx, cameKey{}, how)
}

// CameOf is how a request came.
func CameOf(r *http.Request) Came {
	how, _ := r.Context().Value(cameKey{}).(Came)
	return how
}

func came(c *gin.Context) Came { return CameOf(c.Request) }

// faces are where each face lies. What lies nowhere else is the console's.
var faces = []struct {
	prefix string
	face   keep.Face
}{{"/portal/", keep.PortalFace}, {"/pass/", keep.PassesFace}, {"/dav/", keep.DavFace}}

func faceOf(path string) keep.Face {
	for _, one := range faces {
		if strings.HasPrefix(path+"/", one.prefix) {
			return one.face
		}
	}
	return keep.ConsoleFace
}

// passwordPath is the page that shows a password once. It is there with each face that people from outside come to, for whoever is
// given a password needs no console.
const passwordPath = consolePath + "password"

// ofPasswords reports whether a request is for that page, or what it needs.
func ofPasswords(r *http.Request) bool {
	return r.URL.Path == passwordPath || strings.HasPrefix(r.URL.Path, consolePath+"assets/") || r.URL.Path == "/api/v1/password-links/open"
}

// onFace refuses what the listener does not serve, and leads from the root to the first page.
func (s *Server) onFace(c *gin.Context) {
	l := came(c).Listener
	if l == nil {
		return
	}
	if c.Request.URL.Path == "/" && (c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead) {
		for _, first := range []struct {
			face keep.Face
			path string
		}{{keep.ConsoleFace, consolePath}, {keep.PortalFace, "/portal/"}} {
			if l.Serves(first.face) {
				c.Redirect(http.StatusFound, first.path)
				c.Abort()
				return
			}
		}
	}
	if ofPasswords(c.Request) && (l.Serves(keep.PassesFace) || l.Serves(keep.PortalFace)) {
		return
	}
	if !l.Serves(faceOf(c.Request.URL.Path)) {
		s.writeError(c, errNoAddress)
	}
}

// origin is how the client reaches the service: scheme, host and port.
func (s *Server) origin(c *gin.Context) string {
	if came(c).Listener == nil {
		return s.Office.Live.Console()
	}
	if came(c).Encrypted {
		return "https://" + c.Request.Host
	}
	return "http://" + c.Request.Host
}

// cookieOf is the name of an operator's cookie. The one for TLS is taken by no page without it, and
// kept apart from it (RFC 6265bis, section 4.1.3).
func cookieOf(c *gin.Context) string {
	if came(c).Encrypted {
		return "__Host-" + cookieName
	}
	return cookieName
}
