//go:build linux

package abuse_test

import (
	"bytes"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// endless is a body of so many bytes that begins well, and of which the last never comes.
type endless struct {
	begins io.Reader
	left   int
	stop   chan struct{}
}

func (e *endless) Read(p []byte) (int, error) {
	if n, _ := e.begins.Read(p); n > 0 {
		return n, nil
	}
	if e.left <= 0 {
		<-e.stop
		return 0, io.ErrUnexpectedEOF
	}
	n := min(len(p), e.left)
	for i := range n {
		p[i] = 'a'
	}
	e.left -= n
	return n, nil
}

// Bodies of those who have not signed in, however many streams they come on, and names without end are held by nobody.
func TestBodiesOfStrangersHoldLittle(t *testing.T) {
	p := testkit.Launch(t, testkit.Folder(t))
	p.AddAccount()
	var made api.Listener
	p.CLI(&made, "", "listener", "add", "wide", "web", "127.0.0.1:0", "-faces", "console,portal,passes")
	base := "https://" + made.Listening
	routes := []string{"/api/v1/sign-in", "/api/v1/setup", "/api/v1/sign-in/passkey", "/api/v1/password-links/open", "/portal/api/v1/sign-in", "/portal/api/v1/password", "/portal/api/v1/passkeys/sign-in", "/portal/api/v1/codes"}
	rest := memoryOf(t, p.Run)
	most := 0
	watch := func() { most = max(most, memoryOf(t, p.Run)-rest) }
	stop := make(chan struct{})
	var all sync.WaitGroup
	for _, size := range []int{8 << 20, 60 << 10} { // too much, and as much as may be
		for range 2 {
			transport := &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, MaxConnsPerHost: 1}
			defer transport.CloseIdleConnections()
			for n := range 120 {
				all.Go(func() {
					request, err := http.NewRequest("POST", base+routes[n%len(routes)], &endless{strings.NewReader(`{"account":"`), size, stop})
					if !assert.NoError(t, err) {
						return
					}
					request.Header.Set("Content-Type", "application/json")
					if response, err := transport.RoundTrip(request); err == nil {
						response.Body.Close()
					}
				})
			}
		}
	}
	for range 40 {
		time.Sleep(100 * time.Millisecond)
		watch()
	}
	close(stop)
	all.Wait()
	// Names as long as they may be, refused and kept.
	client := &http.Client{Transport: &http.Transport{MaxConnsPerHost: 16, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}, Timeout: testkit.Patience}
	defer client.CloseIdleConnections()
	var mu sync.Mutex
	status := map[int]int{}
	var names sync.WaitGroup
	for n := range 40 {
		name := strings.Repeat(string(rune('a'+n%26)), 60<<10)
		for at, who := range map[string]string{"/api/v1/sign-in": "operator", "/portal/api/v1/sign-in": "account"} {
			names.Go(func() {
				response, err := client.Post(base+at, "application/json", bytes.NewReader(fmt.Appendf(nil, `{"%s":"%s","password":"x"}`, who, name)))
				if assert.NoError(t, err) {
					response.Body.Close()
					mu.Lock()
					status[response.StatusCode]++
					mu.Unlock()
				}
			})
		}
	}
	names.Wait()
	watch()
	// Answers of single sign-on as large and as branched as they may be, for sign-ins that were begun.
	cert, _ := testkit.NewCertificate(t, t.TempDir(), "tower")
	text, err := os.ReadFile(cert)
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	metadata := filepath.Join(t.TempDir(), "tower.xml")
	require.NoError(t, os.WriteFile(metadata, fmt.Appendf(nil, `<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="tower"><IDPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">`+
		`<KeyDescriptor use="signing"><KeyInfo xmlns="http://www.w3.org/2000/09/xmldsig#"><X509Data><X509Certificate>%s</X509Certificate></X509Data></KeyInfo></KeyDescriptor>`+
		`<SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" Location="https://tower.selwyn.example/sso"/></IDPSSODescriptor></EntityDescriptor>`, base64.StdEncoding.EncodeToString(block.Bytes)), 0o600))
	p.CLI(nil, "", "group", "add", "crews", "-home", "files:{account}")
	p.CLI(nil, "", "source", "add", "tower", "-saml", "-metadata", metadata, "-makes", "-group", "crews")
	p.CLI(nil, "", "route", "add", "*@tower", "tower")
	deep := `<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol">` + strings.Repeat(strings.Repeat("<a>", 30)+strings.Repeat("</a>", 30), 300)
	deep += "<a>" + strings.Repeat("x", 190<<10-len(deep)) + "</a></samlp:Response>"
	brought := base64.StdEncoding.EncodeToString([]byte(deep))
	var floods sync.WaitGroup
	for range 16 {
		floods.Go(func() {
			for range 3 {
				response, err := client.Post(base+"/portal/api/v1/sso", "application/json", strings.NewReader(`{"source":"tower"}`))
				if !assert.NoError(t, err) {
					return
				}
				var went struct{ URL string }
				err = json.NewDecoder(response.Body).Decode(&went)
				response.Body.Close()
				to, bad := url.Parse(went.URL)
				if !assert.NoError(t, errors.Join(err, bad)) {
					return
				}
				response, err = client.PostForm(base+"/sso/back", url.Values{"SAMLResponse": {brought}, "RelayState": {to.Query().Get("RelayState")}})
				if assert.NoError(t, err) {
					response.Body.Close()
					mu.Lock()
					status[response.StatusCode]++
					mu.Unlock()
				}
			}
		})
	}
	done := make(chan bool)
	go func() { floods.Wait(); close(done) }()
	for busy := true; busy; {
		select {
		case <-done:
			busy = false
		case <-time.After(50 * time.Millisecond):
		}
		watch()
	}
	t.Logf("%d MiB at the most beside the %d MiB at rest; answers %v", most>>20, rest>>20, status)
	assert.Less(t, most, 400<<20)
}
