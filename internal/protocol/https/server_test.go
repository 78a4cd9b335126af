package https_test

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/https"
	"urbankeep/internal/protocol/wire"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// serve serves a file of 32 MiB, as an answer of the kernel's or a piece at a time; what an answer ends with is told.
func serve(t *testing.T, stall time.Duration) (address string, ended chan error) {
	name := filepath.Join(t.TempDir(), "large")
	require.NoError(t, os.WriteFile(name, make([]byte, 32<<20), 0o600))
	ended = make(chan error, 10)
	s := &https.Server{Listener: keep.Listener{Name: "web", Protocol: keep.Web, Encryption: keep.EncryptionOff, Faces: keep.Faces}, TLS: &tls.Config{}, Crowd: wire.UsualCrowd(), Stall: stall,
		Admit: func(string, *keep.Listener) bool { return true }, Log: slog.New(slog.DiscardHandler),
		Handle: func(w http.ResponseWriter, r *http.Request, _ https.Visit) {
			f, err := os.Open(name)
			if err == nil {
				defer f.Close()
				w.Header().Set("Content-Length", fmt.Sprint(32<<20))
				if r.URL.Path == "/kernel" {
					_, err = io.Copy(w, f)
				} else {
					_, err = io.Copy(struct{ io.Writer }{w}, f)
				}
			}
			ended <- err
		}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- s.Serve(l) }()
	t.Cleanup(func() { s.Shutdown(t.Context()); assert.NoError(t, <-served) })
	return l.Addr().String(), ended
}

func ask(t *testing.T, address, path string) net.Conn {
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.(*net.TCPConn).SetReadBuffer(256<<10))
	_, err = io.WriteString(conn, "GET "+path+" HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
	require.NoError(t, err)
	return conn
}

func TestWhoTakesNothingIsCutOff(t *testing.T) {
	address, ended := serve(t, 300*time.Millisecond)
	for _, path := range []string{"/kernel", "/pieces"} {
		ask(t, address, path)
		assert.Error(t, <-ended, path)
	}
}

func TestWhoIsSlowGetsAllOfIt(t *testing.T) {
	address, ended := serve(t, time.Second)
	for _, path := range []string{"/kernel", "/pieces"} {
		conn := ask(t, address, path)
		in := bufio.NewReader(conn)
		response, err := http.ReadResponse(in, nil)
		require.NoError(t, err)
		// Slower than a piece in the time that a client may take nothing, but never still.
		got := int64(0)
		for range 12 {
			n, err := io.CopyN(io.Discard, response.Body, 512<<10)
			require.NoError(t, err)
			got += n
			time.Sleep(300 * time.Millisecond)
		}
		rest, err := io.Copy(io.Discard, response.Body)
		require.NoError(t, err)
		assert.EqualValues(t, 32<<20, got+rest)
		assert.NoError(t, <-ended, path)
	}
}

// A proxy may have believed the length, and take the rest for another's request.
func TestNothingIsReadAfterABodyWithTwoLengths(t *testing.T) {
	address, ended := serve(t, 0)
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	_, err = io.WriteString(conn, "GET /first HTTP/1.1\r\nHost: x\r\nContent-Length: 60\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\nGET /second HTTP/1.1\r\nHost: x\r\n\r\n")
	require.NoError(t, err)
	answers := bufio.NewReader(conn)
	answer, err := http.ReadResponse(answers, nil)
	require.NoError(t, err)
	assert.True(t, answer.Close)
	n, err := io.Copy(io.Discard, answer.Body)
	require.NoError(t, err)
	assert.EqualValues(t, 32<<20, n)
	_, err = answers.ReadByte()
	assert.ErrorIs(t, err, io.EOF)
	assert.NoError(t, <-ended)
	assert.Empty(t, ended, "the second was answered")
}
