package https_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/https"
	"urbankeep/internal/protocol/wire"
)

// Of two streams on one connection one takes nothing: it is cut off while the other moves on, and who is slow is not.
func TestAStreamThatTakesNothingIsCutOff(t *testing.T) {
	public, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	about := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, about, about, public, key)
	require.NoError(t, err)
	ended := map[string]chan error{"/still": make(chan error, 1), "/moving": make(chan error, 1)}
	s := &https.Server{Listener: keep.Listener{Name: "web", Protocol: keep.Web, Encryption: keep.EncryptionRequired, Faces: keep.Faces}, Crowd: wire.UsualCrowd(), Stall: 500 * time.Millisecond,
		TLS:   &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}},
		Admit: func(string, *keep.Listener) bool { return true }, Log: slog.New(slog.DiscardHandler),
		Handle: func(w http.ResponseWriter, r *http.Request, _ https.Visit) {
			var err error
			for n := 0; n < 1000 && err == nil; n++ {
				_, err = w.Write(make([]byte, 64<<10))
			}
			ended[r.URL.Path] <- err
		}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- s.Serve(l) }()
	t.Cleanup(func() { s.Shutdown(t.Context()); assert.NoError(t, <-served) })
	transport := &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, MaxConnsPerHost: 1}
	t.Cleanup(transport.CloseIdleConnections)
	client := &http.Client{Transport: transport}
	answers := map[string]*http.Response{}
	for at := range ended {
		answer, err := client.Get("https://" + l.Addr().String() + at)
		require.NoError(t, err)
		require.Equal(t, 2, answer.ProtoMajor)
		t.Cleanup(func() { answer.Body.Close() })
		answers[at] = answer
	}
	moving := make(chan int64, 1)
	go func() {
		var n int64
		for buf := make([]byte, 1<<20); ; time.Sleep(30 * time.Millisecond) {
			some, err := io.ReadFull(answers["/moving"].Body, buf)
			if n += int64(some); err != nil {
				moving <- n
				return
			}
		}
	}()
	assert.Error(t, <-ended["/still"])
	assert.NoError(t, <-ended["/moving"])
	assert.Equal(t, int64(1000*64<<10), <-moving)
}
