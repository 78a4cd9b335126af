package rehearse

import (
	"net"
	"net/http"

	"urbankeep/internal/keep"
)

// davClient is a WebDAV client, as far as a rehearsal needs one.
type davClient struct{ *portalClient }

func signInDAV(raw net.Conn, account string, l Listener) (client, error) {
	web, err := overHTTP(raw, l)
	if err != nil {
		return nil, err
	}
	web.account, web.password = account, l.Secret
	web.base += "dav/"
	c := &davClient{web}
	return c, c.list("/")
}

func (c *davClient) list(at string) error {
	_, err := c.ask("PROPFIND", escaped(at)+"/", "", nil)
	return err
}

func (c *davClient) download(at, want string) error {
	return c.fetch(escaped(at), want)
}

func (c *davClient) upload(at, content string) error {
	_, err := c.ask(http.MethodPut, escaped(at), "application/octet-stream", []byte(content))
	return err
}

func (c *davClient) rename(at, to string) error {
	_, err := c.askWith("MOVE", escaped(at), "", nil, "Destination", "/dav/"+escaped(to))
	return err
}

func (c *davClient) remove(at string) error {
	_, err := c.ask(http.MethodDelete, escaped(at), "", nil)
	return err
}

func (c *davClient) mkdir(at string) error {
	_, err := c.ask("MKCOL", escaped(at), "", nil)
	return err
}

func (c *davClient) rmdir(at string) error { return c.remove(at) }

func (c *davClient) close() { c.http.CloseIdleConnections() }

// Faced is a listener as it is tried: a web listener once for each of its faces that account holders use.
func Faced(l Listener) []Listener {
	if l.Protocol != keep.Web || l.Pass != nil {
		return []Listener{l}
	}
	var each []Listener
	for _, one := range []struct {
		face     keep.Face
		protocol keep.Protocol
	}{{keep.PortalFace, keep.Portal}, {keep.DavFace, keep.WebDAV}} {
		if l.Serves(one.face) {
			as := l
			as.Over = one.protocol
			each = append(each, as)
		}
	}
	return each
}
