package rehearse

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"

	"urbankeep/internal/keep"
)

// portalClient is a browser, as far as the portal needs one.
type portalClient struct {
	http     *http.Client
	base     string
	account  string // shown with each request, where that is asked for
	password keep.Secret
}

// signInPortal signs in over a connection that is there already; it is the only one.
func signInPortal(raw net.Conn, account string, l Listener) (client, error) {
	c, err := overHTTP(raw, l)
	if err != nil {
		return nil, err
	}
	c.base += "portal/"
	return c, c.post("api/v1/sign-in", map[string]string{"account": account, "password": l.Secret.Reveal()})
}

// overHTTP calls a web listener over a connection.
func overHTTP(raw net.Conn, l Listener) (*portalClient, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	conns := make(chan net.Conn, 1)
	conns <- raw
	transport := &http.Transport{MaxConnsPerHost: 1, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, // it is the service itself that is called
		DialContext: func(context.Context, string, string) (net.Conn, error) {
			select {
			case conn := <-conns:
				return conn, nil
			default:
				return nil, errors.New("the connection was closed")
			}
		}}
	c := &portalClient{http: &http.Client{Jar: jar, Transport: transport, Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, base: "http://"}
	if l.Encryption != keep.EncryptionOff {
		c.base = "https://"
	}
	host := raw.RemoteAddr().String()
	if len(l.Hosts) > 0 {
		host = strings.Replace(l.Hosts[0], "*", "rehearsal", 1)
	}
	c.base += host + "/"
	return c, nil
}

// ask sends a request; an answer that isn't a success is a refusal, or a failure.
func (c *portalClient) ask(method, path string, kind string, body []byte) ([]byte, error) {
	return c.askWith(method, path, kind, body, "", "")
}

// askWith is ask with a header more.
func (c *portalClient) askWith(method, path string, kind string, body []byte, header, value string) ([]byte, error) {
	request, err := http.NewRequest(method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if kind != "" {
		request.Header.Set("Content-Type", kind)
	}
	if c.account != "" {
		request.SetBasicAuth(c.account, c.password.Reveal())
	}
	if header != "" {
		request.Header.Set(header, value)
	}
	request.Header.Set("User-Agent", "UrbanKeepRehearsal")
	response, err := c.http.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, maxPacket))
	switch {
	case err != nil:
		return nil, err
	case response.StatusCode >= 500 && response.StatusCode != http.StatusInsufficientStorage:
		return nil, fmt.Errorf("status %d: %s", response.StatusCode, text)
	case response.StatusCode >= 300:
		return nil, &refusal{fmt.Sprintf("status %d", response.StatusCode)}
	}
	return text, nil
}

func (c *portalClient) post(path string, ask any) error {
	text, err := json.Marshal(ask)
	if err == nil {
		_, err = c.ask(http.MethodPost, path, "application/json", text)
	}
	return err
}

// fileAt is the address of a file.
func fileAt(at string) string { return "files/" + escaped(at) }

// escaped is a path in an address; what would lead up in it stays as it is.
func escaped(at string) string {
	parts := strings.Split(strings.TrimPrefix(at, "/"), "/")
	for i, part := range parts {
		if parts[i] = url.PathEscape(part); part == ".." || part == "." {
			parts[i] = strings.ReplaceAll(part, ".", "%2e")
		}
	}
	return strings.Join(parts, "/")
}

func (c *portalClient) list(at string) error {
	_, err := c.ask(http.MethodGet, "api/v1/folder?path="+url.QueryEscape(at), "", nil)
	return err
}

func (c *portalClient) download(at, want string) error { return c.fetch(fileAt(at), want) }

// fetch gets what lies at an address, and holds it against what should.
func (c *portalClient) fetch(address, want string) error {
	text, err := c.ask(http.MethodGet, address, "", nil)
	if err == nil && string(text) != want {
		err = errors.New("what came is not what lies there")
	}
	return err
}

func (c *portalClient) upload(at, content string) error {
	_, err := c.ask(http.MethodPut, fileAt(at), "application/octet-stream", []byte(content))
	return err
}

func (c *portalClient) rename(at, to string) error {
	return c.post("api/v1/renames", map[string]string{"path": at, "to": to})
}

func (c *portalClient) remove(at string) error {
	return c.post("api/v1/removals", map[string]any{"path": at, "forGood": true})
}

func (c *portalClient) mkdir(at string) error {
	return c.post("api/v1/folders", map[string]string{"path": at})
}

func (c *portalClient) rmdir(at string) error { return c.remove(at) }

func (c *portalClient) close() {
	c.post("api/v1/sign-out", nil)
	c.http.CloseIdleConnections()
}
