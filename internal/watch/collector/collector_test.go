package collector_test

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
	"urbankeep/internal/watch/collector"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// settled is short, so that the tests are.
const settled = 500 * time.Millisecond

type house struct {
	t     *testing.T
	db    *records.DB
	trail *audit.Trail
	s     *collector.Sender
	told  atomic.Pointer[collector.Sender] // s, for the trail's goroutine
}

func newHouse(t *testing.T) *house {
	db, err := records.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	h := &house{t: t, db: db, trail: trail}
	h.start()
	trail.Watch(func(r []keep.AuditRecord) { h.told.Load().Recorded(r) })
	t.Cleanup(func() {
		h.s.Close()
		trail.Close()
		assert.NoError(t, db.Close())
	})
	return h
}

func (h *house) start() {
	var err error
	h.s, err = collector.Open(h.t.Context(), h.db, settled, slog.New(slog.DiscardHandler))
	require.NoError(h.t, err)
	h.told.Store(h.s)
}

// set changes where it is sent, as the office does: in a transaction.
func (h *house) set(to keep.Collector) error {
	return h.s.Set(h.t.Context(), to, func(write func(context.Context) error) error { return h.db.Together(h.t.Context(), write) })
}

func (h *house) note(n int) {
	for range n {
		h.trail.Note(keep.AuditRecord{Account: "gauge-quay", Protocol: keep.FTP, Action: keep.Uploading, Path: `/a "b]\`, Outcome: keep.Done})
	}
}

// listening takes messages with octet counting, as long as it stands.
type listening struct {
	l  net.Listener
	mu sync.Mutex
	// guarded by mu:
	seqs  []int
	conns []net.Conn
}

var seqOf = regexp.MustCompile(`^<110>1 \S+ \S+ urbankeep - upload \[record@32473 seq="(\d+)" .*path="/a \\"b\\]\\\\".*\] gauge-quay upload /a `)

func listen(t *testing.T, l net.Listener) *listening {
	g := &listening{l: l}
	go func() { // ends with the listener
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			g.mu.Lock()
			g.conns = append(g.conns, conn)
			g.mu.Unlock()
			go g.read(t, conn)
		}
	}()
	t.Cleanup(g.fall)
	return g
}

func (g *listening) read(t *testing.T, conn net.Conn) {
	defer conn.Close()
	for in := bufio.NewReader(conn); ; {
		length, err := in.ReadString(' ')
		if err != nil {
			return
		}
		n, err := strconv.Atoi(strings.TrimSpace(length))
		if !assert.NoError(t, err, "octet counting") {
			return
		}
		message := make([]byte, n)
		if _, err := io.ReadFull(in, message); err != nil {
			return
		}
		found := seqOf.FindSubmatch(message)
		if !assert.NotNil(t, found, string(message)) {
			return
		}
		seq, _ := strconv.Atoi(string(found[1]))
		g.mu.Lock()
		g.seqs = append(g.seqs, seq)
		g.mu.Unlock()
	}
}

// fall ends it at once, with whatever is under way.
func (g *listening) fall() {
	g.l.Close()
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, conn := range g.conns {
		conn.Close()
	}
}

func (g *listening) got() []int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return append([]int{}, g.seqs...)
}

func (h *house) delivered(seq int64) {
	h.t.Helper()
	require.Eventually(h.t, func() bool { now := h.s.State(h.t.Context()); return now.Sent == seq && now.Waiting == 0 }, 120*time.Second, 10*time.Millisecond, "%+v", h.s.State(h.t.Context()))
}

func TestNothingIsLostWhileTheCollectorIsDown(t *testing.T) {
	h := newHouse(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	h.note(5) // before there is a collector: not for it
	require.Eventually(t, func() bool { last, err := h.db.LastAudit(t.Context()); return err == nil && last.Seq == 5 }, 2*time.Minute, 5*time.Millisecond)
	first := listen(t, l)
	require.NoError(t, h.set(keep.Collector{Address: "tcp://" + address}))
	h.note(1000)
	h.delivered(1005)
	require.Eventually(t, func() bool { return len(first.got()) == 1000 }, 2*time.Minute, 10*time.Millisecond)
	h.note(200)
	first.fall()
	h.note(1500)
	require.Eventually(t, func() bool { return h.s.State(t.Context()).Trouble != "" }, 2*time.Minute, 10*time.Millisecond)
	h.s.Close() // the service stops meanwhile, and starts again
	h.note(100)
	h.start()
	l, err = net.Listen("tcp", address)
	require.NoError(t, err)
	second := listen(t, l)
	h.delivered(2805)

	times := map[int]int{}
	for _, seq := range append(first.got(), second.got()...) {
		times[seq]++
	}
	for seq := 6; seq <= 2805; seq++ {
		require.NotZero(t, times[seq], "record %d", seq)
		if seq <= 1005 {
			require.Equal(t, 1, times[seq], "record %d had counted as delivered", seq)
		}
	}
	assert.Zero(t, times[5])
	h.s.Close() // properly, so that nothing is sent again
	h.start()
	h.note(1)
	h.delivered(2806)
	count := 0
	for _, seq := range second.got() {
		if seq > 2700 {
			count++
		}
	}
	assert.Equal(t, 106, count)
}

// A collector that was set while it can't be reached, and is sent nothing for a while, gets all that was recorded since it was set.
func TestACollectorThatComesBackGetsWhatWaited(t *testing.T) {
	h := newHouse(t)
	recorded := func(seq int64) {
		require.Eventually(t, func() bool { last, err := h.db.LastAudit(t.Context()); return err == nil && last.Seq == seq }, 2*time.Minute, 5*time.Millisecond)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	l.Close()
	h.note(5)
	recorded(5)
	require.NoError(t, h.set(keep.Collector{Address: "tcp://" + address}))
	h.note(50)
	recorded(55)
	require.NoError(t, h.set(keep.Collector{}))
	h.note(20)
	recorded(75)
	h.s.Close()
	h.start()
	require.Error(t, h.s.Set(t.Context(), keep.Collector{Address: "tcp://" + address}, func(func(context.Context) error) error { return io.ErrShortWrite }))
	assert.Empty(t, h.s.State(t.Context()).Address, "what was not saved is not in force")
	require.NoError(t, h.set(keep.Collector{Address: "tcp://" + address}))
	assert.EqualValues(t, 5, h.s.State(t.Context()).Sent)
	l, err = net.Listen("tcp", address)
	require.NoError(t, err)
	got := listen(t, l)
	h.delivered(75)
	assert.Len(t, got.got(), 70)
	h.note(1)
	h.s.Close() // which says goodbye properly
	h.start()
	h.delivered(76)
	assert.Len(t, got.got(), 71)
}

func TestOverTLSOnlyACollectorThatIsTrustedGetsAnything(t *testing.T) {
	h := newHouse(t)
	certificate, trust := authority(t)
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g := listen(t, tls.NewListener(plain, &tls.Config{Certificates: []tls.Certificate{certificate}}))
	require.NoError(t, h.set(keep.Collector{Address: "tls://" + plain.Addr().String()}))
	h.note(3)
	require.Eventually(t, func() bool { return strings.Contains(h.s.State(t.Context()).Trouble, "certificate") }, 2*time.Minute, 10*time.Millisecond)
	assert.Empty(t, g.got())
	require.NoError(t, h.set(keep.Collector{Address: "tls://" + plain.Addr().String(), Trust: trust}))
	h.delivered(3)
	assert.Equal(t, []int{1, 2, 3}, g.got())
	require.NoError(t, h.set(keep.Collector{}))
	assert.Empty(t, h.s.State(t.Context()).Address)
}

func authority(t *testing.T) (tls.Certificate, string) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	form := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "collector"}, NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, form, form, public, private)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: private}, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

func TestOverUDPEachRecordIsADatagram(t *testing.T) {
	h := newHouse(t)
	l, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, h.set(keep.Collector{Address: "udp://" + l.LocalAddr().String()}))
	h.trail.Note(keep.AuditRecord{Account: "gauge-quay", Protocol: keep.FTP, Action: keep.Uploading, Path: `/a "b]\`, Outcome: keep.Done, Detail: strings.Repeat(`"`, 8000)})
	h.note(1)
	for want := range 2 {
		message := make([]byte, 1<<16)
		l.SetReadDeadline(time.Now().Add(10 * time.Second))
		n, _, err := l.ReadFrom(message)
		require.NoError(t, err)
		found := seqOf.FindSubmatch(message[:n])
		require.NotNil(t, found, string(message[:n]))
		assert.Equal(t, fmt.Sprint(want+1), string(found[1]))
	}
	h.delivered(2)
}
