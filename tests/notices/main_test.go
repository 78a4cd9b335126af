// Package notices_test tries who is told of what happens, and that nothing that a receiver does gets in the way.
package notices_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"urbankeep/internal/service"
	"urbankeep/internal/watch/notice"
	"urbankeep/tests/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// ear is a receiver of web calls, which may behave badly.
type ear struct {
	*httptest.Server
	t       *testing.T
	bad     func(n int, w http.ResponseWriter, e *notice.Event) bool // answers the call itself and says so; n counts calls; nil: never
	mu      sync.Mutex
	secret  string
	calls   int
	taken   []notice.Event // that were answered well, in the order of their coming
	headers http.Header    // of the last
}

func listen(t *testing.T) *ear {
	e := &ear{t: t}
	e.Server = httptest.NewServer(e)
	t.Cleanup(func() { e.CloseClientConnections(); e.Close() })
	return e
}

func (e *ear) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	var event notice.Event
	assert.NoError(e.t, json.Unmarshal(body, &event), string(body))
	e.mu.Lock()
	e.calls++
	n, secret, bad := e.calls, e.secret, e.bad
	e.headers = r.Header.Clone()
	e.mu.Unlock()
	if secret != "" {
		assert.True(e.t, signed(r.Header, body, secret), "the signature of %s", body)
		assert.Equal(e.t, "application/cloudevents+json; charset=utf-8", r.Header.Get("Content-Type"))
		assert.Equal(e.t, event.ID, r.Header.Get("Webhook-Id"))
	}
	if bad != nil && bad(n, w, &event) {
		return
	}
	e.mu.Lock()
	e.taken = append(e.taken, event)
	e.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

// signed verifies a call as the Standard Webhooks specification says.
func signed(h http.Header, body []byte, secret string) bool {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil {
		return false
	}
	mac := hmac.New(sha256.New, key)
	io.WriteString(mac, h.Get("webhook-id")+"."+h.Get("webhook-timestamp")+"."+string(body))
	return slices.Contains(strings.Fields(h.Get("webhook-signature")), "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
}

func (e *ear) got() []notice.Event {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.Clone(e.taken)
}

// different is how many events it has taken; one whose taking a stop kept from being noted comes again.
func (e *ear) different() int {
	events := map[string]bool{}
	for _, one := range e.got() {
		events[one.ID] = true
	}
	return len(events)
}

// waitFor waits until it has taken so many events that fit.
func (e *ear) waitFor(n int, fits func(*notice.Event) bool) []notice.Event {
	e.t.Helper()
	var found []notice.Event
	require.Eventually(e.t, func() bool {
		found = nil
		for _, one := range e.got() {
			if fits == nil || fits(&one) {
				found = append(found, one)
			}
		}
		return len(found) >= n
	}, testkit.Patience, 5*time.Millisecond, "%d events", n)
	return found
}

// behave changes how it answers.
func (e *ear) behave(bad func(n int, w http.ResponseWriter, event *notice.Event) bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.bad = bad
}

// made is what receiver add prints.
type made struct{ Secret string }

func quick(o *service.Options) { o.Pause = 5 * time.Millisecond }

// start is a service with an account, an ear, and more flags for its receiver.
func start(t *testing.T, args ...string) (*testkit.Keep, *ear) {
	k, e := testkit.StartOn(t, t.TempDir(), "127.0.0.1", quick), listen(t)
	k.Account("gauge-quay")
	e.add(k, args...)
	return k, e
}

func (e *ear) add(k *testkit.Keep, args ...string) {
	var r made
	k.Must(&r, append([]string{"receiver", "add", "tide-office", e.URL + "/in", "-private"}, args...)...)
	e.mu.Lock()
	defer e.mu.Unlock()
	e.secret = r.Secret
}
