package keep

import (
	"crypto/x509"
	"fmt"
	"net"
	"net/url"
	"strconv"
)

// Collector is where audit records are sent as syslog messages (RFC 5424). The zero
// value is nowhere.
type Collector struct {
	Address string `json:"address"` // tls://HOST:PORT, tcp://HOST:PORT or udp://HOST:PORT
	Trust   string `json:"trust"`   // certificates (PEM) that sign the collector's; "" for those of the system
}

// Check reports what is wrong with it as a [*FieldError].
func (c *Collector) Check() error {
	if c.Address == "" {
		return nil
	}
	how, _, err := c.Dial()
	if err != nil {
		return err
	}
	if c.Trust == "" {
		return nil
	}
	if how != "tls" {
		return &FieldError{"trust", "certificates are for tls:// only"}
	}
	if !x509.NewCertPool().AppendCertsFromPEM([]byte(c.Trust)) {
		return &FieldError{"trust", "that is no certificate: give the PEM file of the authority that signed the collector's"}
	}
	return nil
}

// Dial says over what (tls, tcp, udp) and at which host and port it is reached.
func (c *Collector) Dial() (how, address string, err error) {
	bad := &FieldError{"address", fmt.Sprintf("%q is no collector: use tls://HOST:PORT (RFC 5425, usually 6514), tcp://HOST:PORT or udp://HOST:PORT (usually 514)", c.Address)}
	u, err := url.Parse(c.Address)
	if err != nil || u.Path != "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return "", "", bad
	}
	host, port, err := net.SplitHostPort(u.Host)
	if n, perr := strconv.Atoi(port); err != nil || perr != nil || host == "" || n < 1 || n > 65535 {
		return "", "", bad
	}
	if u.Scheme != "tls" && u.Scheme != "tcp" && u.Scheme != "udp" {
		return "", "", bad
	}
	return u.Scheme, u.Host, nil
}
