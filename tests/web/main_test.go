// Package web_test tries the web as a listener: what it serves to whom, the proxies before it, and its
// certificates.
package web_test

import (
	"crypto/tls"
	"net/http"
	"testing"

	"go.uber.org/goleak"

	"urbankeep/tests/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// blind asks over TLS whoever answers.
func blind(t *testing.T) *http.Client {
	transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: true}
	t.Cleanup(transport.CloseIdleConnections)
	return &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Timeout: testkit.Patience}
}
