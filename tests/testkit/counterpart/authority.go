package counterpart

import (
	"crypto/tls"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"urbankeep/tests/testkit"
)

// Authority gives certificates by ACME. It finds every name on this machine.
type Authority struct {
	Directory string // its URL
	Trust     string // file with who vouches for it
	Root      string // file with the root of what it issues
	HTTP, TLS int    // the ports on which it looks for challenges

	t       testing.TB
	backend string
	front   *net.TCPAddr
	mu      sync.Mutex
	door    net.Listener // nil: it is away
	inside  map[net.Conn]bool
	running sync.WaitGroup
}

// StartAuthority runs one whose certificates are good for so long.
func StartAuthority(t testing.TB, life time.Duration) *Authority {
	_, err := os.Stat("../../bin/tools/pebble")
	if err != nil {
		t.Skip("the ACME test authority is not built: make counterparts")
	}
	program, err := filepath.Abs("../../bin/tools/pebble")
	require.NoError(t, err)
	dir := t.TempDir()
	low := testkit.FreePorts(t)
	a := &Authority{t: t, HTTP: low, TLS: low + 1, backend: fmt.Sprint("127.0.0.1:", low+2), Trust: filepath.Join(dir, "trust.pem"), Root: filepath.Join(dir, "root.pem"), inside: map[net.Conn]bool{}}
	management := fmt.Sprint("127.0.0.1:", low+3)
	out, err := exec.Command("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "30", "-subj", "/CN=authority",
		"-addext", "subjectAltName=IP:127.0.0.1", "-out", a.Trust, "-keyout", filepath.Join(dir, "key.pem")).CombinedOutput()
	require.NoError(t, err, string(out))
	text, err := json.Marshal(map[string]any{"pebble": map[string]any{"listenAddress": a.backend, "managementListenAddress": management, "certificate": a.Trust,
		"privateKey": filepath.Join(dir, "key.pem"), "httpPort": a.HTTP, "tlsPort": a.TLS, "retryAfter": map[string]int{"authz": 1, "order": 1},
		"profiles": map[string]any{"default": map[string]any{"description": "tests", "validityPeriod": int(life.Seconds())}}}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config.json"), text, 0o600))
	run := exec.Command(program, "-config", filepath.Join(dir, "config.json"), "-dnsserver", names(t))
	run.Env = append(os.Environ(), "PEBBLE_VA_NOSLEEP=1", "PEBBLE_WFE_NONCEREJECT=0", "PEBBLE_AUTHZREUSE=0")
	run.Stdout, run.Stderr = io.Discard, io.Discard
	require.NoError(t, run.Start())
	t.Cleanup(func() { run.Process.Kill(); run.Wait(); a.Away(); a.running.Wait() })
	a.Back()
	a.Directory = "https://" + a.front.String() + "/dir"
	blind := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true}}
	for end := time.Now().Add(testkit.Patience); ; time.Sleep(50 * time.Millisecond) {
		response, err := blind.Get("https://" + management + "/roots/0")
		if err == nil {
			root, err := io.ReadAll(response.Body)
			response.Body.Close()
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(a.Root, root, 0o600))
			return a
		}
		require.Less(t, time.Now(), end, "the authority does not answer: %v", err)
	}
}

// Away lets nobody reach it.
func (a *Authority) Away() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.door != nil {
		a.door.Close()
		a.door = nil
	}
	for conn := range a.inside {
		conn.Close()
	}
}

// Back lets it be reached again.
func (a *Authority) Back() {
	address := "127.0.0.1:0"
	if a.front != nil {
		address = a.front.String()
	}
	door, err := net.Listen("tcp", address)
	require.NoError(a.t, err)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.door, a.front = door, door.Addr().(*net.TCPAddr)
	a.running.Go(func() {
		for {
			in, err := door.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", a.backend)
			if err != nil {
				in.Close()
				continue
			}
			a.mu.Lock()
			a.inside[in], a.inside[out] = true, true
			a.mu.Unlock()
			for _, pair := range [][2]net.Conn{{in, out}, {out, in}} {
				a.running.Go(func() {
					io.Copy(pair[0], pair[1])
					in.Close()
					out.Close()
					a.mu.Lock()
					delete(a.inside, in)
					delete(a.inside, out)
					a.mu.Unlock()
				})
			}
		}
	})
}

// names answers that every name is this machine, and gives its address.
func names(t testing.TB) string {
	door, err := net.Listen("tcp", "127.0.0.1:0") // the authority asks over TCP
	require.NoError(t, err)
	var running sync.WaitGroup
	t.Cleanup(func() { door.Close(); running.Wait() })
	running.Go(func() {
		for {
			conn, err := door.Accept()
			if err != nil {
				return
			}
			running.Go(func() {
				defer conn.Close()
				conn.SetDeadline(time.Now().Add(time.Second))
				for name(conn) == nil {
				}
			})
		}
	})
	return door.Addr().String()
}

// name answers one question (RFC 1035, section 4.2.2).
func name(conn net.Conn) error {
	var size uint16
	if err := binary.Read(conn, binary.BigEndian, &size); err != nil {
		return err
	}
	text := make([]byte, size)
	if _, err := io.ReadFull(conn, text); err != nil {
		return err
	}
	var m dnsmessage.Message
	if err := m.Unpack(text); err != nil {
		return err
	}
	m.Response, m.RecursionAvailable, m.Additionals = true, true, nil
	if q := m.Questions[0]; q.Type == dnsmessage.TypeA {
		m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 1}, Body: &dnsmessage.AResource{A: [4]byte{127, 0, 0, 1}}}}
	}
	answer, err := m.Pack()
	if err != nil {
		return err
	}
	_, err = conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(answer))), answer...))
	return err
}
