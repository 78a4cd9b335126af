package testkit

import (
	"crypto/tls"
	"io"
	"net"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Line leads from an address of its own to another, and can be cut.
type Line struct {
	Address string

	mu   sync.Mutex
	open map[net.Conn]bool
}

// NewLine leads to an address until the test ends.
func NewLine(t *testing.T, to string) *Line {
	return newLine(t, func() (net.Conn, error) { return net.Dial("tcp", to) })
}

// NewTLSLine speaks TLS to an address for clients that can't trust what is there.
func NewTLSLine(t *testing.T, to string) *Line {
	return newLine(t, func() (net.Conn, error) { return tls.Dial("tcp", to, &tls.Config{InsecureSkipVerify: true}) })
}

func newLine(t *testing.T, dial func() (net.Conn, error)) *Line {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := &Line{Address: listener.Addr().String(), open: map[net.Conn]bool{}}
	var all sync.WaitGroup
	t.Cleanup(func() {
		listener.Close()
		l.Cut()
		all.Wait()
	})
	all.Go(func() {
		for {
			here, err := listener.Accept()
			if err != nil {
				return
			}
			there, err := dial()
			if err != nil {
				here.Close()
				continue
			}
			l.mu.Lock()
			l.open[here], l.open[there] = true, true
			l.mu.Unlock()
			for _, way := range [][2]net.Conn{{here, there}, {there, here}} {
				all.Go(func() {
					io.Copy(way[0], way[1])
					here.Close()
					there.Close()
					l.mu.Lock()
					defer l.mu.Unlock()
					delete(l.open, way[0])
				})
			}
		}
	})
	return l
}

// Cut ends every connection; new ones lead on.
func (l *Line) Cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.open {
		c.Close()
	}
}
