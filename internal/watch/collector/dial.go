package collector

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/url"
	"strconv"

	"urbankeep/internal/keep"
)

// check reports what is wrong with a collector as a [*keep.FieldError].
func check(c keep.Collector) error {
	if c.Address == "" {
		return nil
	}
	how, _, err := parse(c.Address)
	switch {
	case err != nil || c.Trust == "":
		return err
	case how != "tls":
		return &keep.FieldError{Field: "trust", Say: "certificates are for tls:// only"}
	case !x509.NewCertPool().AppendCertsFromPEM([]byte(c.Trust)):
		return &keep.FieldError{Field: "trust", Say: "that is no certificate: give the PEM file of the authority that signed the collector's"}
	}
	return nil
}

// parse says over what (tls, tcp, udp) and at which host and port a collector is reached.
func parse(text string) (how, address string, err error) {
	bad := &keep.FieldError{Field: "address", Say: fmt.Sprintf("%q is no collector: use tls://HOST:PORT (RFC 5425, usually 6514), tcp://HOST:PORT or udp://HOST:PORT (usually 514)", text)}
	u, err := url.Parse(text)
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

func dial(ctx context.Context, to keep.Collector) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	how, address, err := parse(to.Address)
	if err != nil {
		return nil, err
	}
	d := &net.Dialer{Control: control, KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: unacked / 2, Interval: unacked / 6, Count: 3}}
	if how != "tls" {
		return d.DialContext(ctx, how, address)
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if to.Trust != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM([]byte(to.Trust))
	}
	return (&tls.Dialer{NetDialer: d, Config: config}).DialContext(ctx, "tcp", address)
}
