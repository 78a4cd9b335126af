package wire_test

import (
	"context"
	"io"
	"log/slog"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"urbankeep/internal/protocol/wire"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func start(t *testing.T, handle func(context.Context, net.Conn, func())) (*wire.Server, string, chan error) {
	s := &wire.Server{Handle: handle, Log: slog.New(slog.DiscardHandler)}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- s.Serve(l) }()
	return s, l.Addr().String(), served
}

func TestShutdownWaitsForEveryConnectionAndTakesNoNewOne(t *testing.T) {
	var running, ended atomic.Int32
	s, address, served := start(t, func(stopping context.Context, conn net.Conn, _ func()) {
		running.Add(1)
		<-stopping.Done()
		time.Sleep(50 * time.Millisecond) // its transfer
		ended.Add(1)
	})
	for range 10 {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer conn.Close()
	}
	require.Eventually(t, func() bool { return running.Load() == 10 }, 2*time.Minute, time.Millisecond)
	s.Shutdown(t.Context())
	assert.EqualValues(t, 10, ended.Load())
	assert.NoError(t, <-served)
	_, err := net.Dial("tcp", address)
	assert.Error(t, err)
}

func TestShutdownCutsWhoDoesNotEnd(t *testing.T) {
	s, address, served := start(t, func(_ context.Context, conn net.Conn, _ func()) { io.Copy(io.Discard, conn) })
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Write([]byte("x"))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	s.Shutdown(ctx)
	assert.NoError(t, <-served)
	_, err = conn.Read(make([]byte, 1))
	assert.Error(t, err)
}

func TestAFloodOfStrangersKeepsOnlyItsOwnAddressOut(t *testing.T) {
	enter := make(chan bool, 1000)
	s, address, served := start(t, func(stopping context.Context, conn net.Conn, signedIn func()) {
		if <-enter {
			signedIn()
		}
		io.WriteString(conn, "in")
		<-stopping.Done()
	})
	s.TurnAway = func(conn net.Conn) { io.WriteString(conn, "full") }
	from := func(last byte) string {
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, last)}}
		conn, err := dialer.Dial("tcp", address)
		require.NoError(t, err)
		t.Cleanup(func() { conn.Close() })
		conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		word := make([]byte, 4)
		n, _ := conn.Read(word)
		return string(word[:n])
	}
	for range 60 { // who signs in is no stranger any more
		enter <- true
		require.Equal(t, "in", from(2))
	}
	for range 40 {
		enter <- false
		require.Equal(t, "in", from(2))
	}
	assert.Equal(t, "full", from(2))
	enter <- false
	assert.Equal(t, "in", from(3), "another address is not kept out")
	s.Shutdown(t.Context())
	assert.NoError(t, <-served)
}

func TestAFaultOfOneConnectionLeavesTheOthers(t *testing.T) {
	s, address, served := start(t, func(_ context.Context, conn net.Conn, _ func()) {
		word := make([]byte, 1)
		conn.Read(word)
		if word[0] == 'p' {
			panic("a fault of the program")
		}
		conn.Write(word)
	})
	other, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer other.Close()
	faulty, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer faulty.Close()
	io.WriteString(faulty, "p")
	_, err = faulty.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF)
	io.WriteString(other, "x")
	word := make([]byte, 1)
	_, err = other.Read(word)
	require.NoError(t, err)
	assert.Equal(t, "x", string(word))
	s.Shutdown(t.Context())
	assert.NoError(t, <-served)
}

func TestServingAfterShutdownEndsAtOnce(t *testing.T) {
	s := &wire.Server{Handle: func(context.Context, net.Conn, func()) {}, Log: slog.New(slog.DiscardHandler)}
	s.Shutdown(t.Context())
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	assert.NoError(t, s.Serve(l))
	_, err = l.Accept()
	assert.ErrorIs(t, err, net.ErrClosed)
}

func TestAListenerThatBreaksIsAnError(t *testing.T) {
	s := &wire.Server{Handle: func(context.Context, net.Conn, func()) {}, Log: slog.New(slog.DiscardHandler)}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l.Close()
	assert.ErrorIs(t, s.Serve(l), net.ErrClosed)
	s.Shutdown(t.Context())
}

func TestAddressesHaveOneForm(t *testing.T) {
	for in, want := range map[string]string{"127.0.0.1:5": "127.0.0.1", "[::ffff:192.0.2.7]:5": "192.0.2.7", "[fe80::1%eth0]:5": "fe80::1", "[2001:db8::1]:5": "2001:db8::1"} {
		addr, err := net.ResolveTCPAddr("tcp", in)
		require.NoError(t, err)
		assert.Equal(t, want, wire.IP(addr).String())
	}
	assert.False(t, wire.IP(&net.UnixAddr{Name: "x"}).IsValid())
}
