package ftp_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/textproto"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/ftp"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// house lets everybody with the right password into one folder, and notes what
// is recorded.
type house struct {
	dir string

	mu      sync.Mutex
	records []keep.AuditRecord
	left    []*keep.Fault
	cuts    []func(*keep.Fault)
}

func (h *house) Arrive(_ net.Addr, _ keep.Protocol, _ bool, cut func(*keep.Fault)) ftp.Visit {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.cuts = append(h.cuts, cut)
	return h
}
func (h *house) MustProtect() bool { return false }

func (h *house) MayBePlain(_ context.Context, account string, byListener bool) bool {
	return byListener || account != "tls-only"
}
func (h *house) SignIn(_ context.Context, account string, password keep.Secret) (*tree.Tree, error) {
	if password != "right" {
		return nil, keep.Refuse(keep.BadCredentials, "no")
	}
	a := &keep.Account{Name: account, State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "/"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}}
	e, err := keep.Resolve(a, nil)
	if err != nil {
		return nil, err
	}
	return tree.Open(tree.Who{Account: account}, e, tree.House{Stores: []keep.Store{{Name: "files", Folder: h.dir}}, Ledger: quota.Unlimited(), Trail: h}, h)
}
func (h *house) Offer(context.Context, string, ssh.PublicKey) bool { return false }
func (h *house) KeyProved(context.Context, string, ssh.PublicKey) (*tree.Tree, error) {
	return nil, keep.Refuse(keep.BadCredentials, "no")
}
func (h *house) Secured(string) {}
func (h *house) Named(string)   {}
func (h *house) SignOut(why *keep.Fault) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.left = append(h.left, why)
}
func (h *house) Announce(keep.AuditRecord, string) (func(keep.AuditRecord) error, error) {
	return h.Record, nil
}
func (h *house) Hold(keep.AuditRecord) (func(keep.AuditRecord) error, error) { return h.Record, nil }
func (h *house) Record(r keep.AuditRecord) error                             { h.Note(r); return nil }
func (h *house) Note(r keep.AuditRecord) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.records = append(h.records, r)
}
func (h *house) Doing(keep.Action, string)              {}
func (h *house) Room() error                            { return nil }
func (h *house) Begin(tree.Transfer) tree.Meter         { return h }
func (h *house) Reserve(n int64, _ bool) (int64, error) { return n, nil }
func (h *house) Release(int64)                          {}
func (h *house) Moved(int)                              {}
func (h *house) Chunk() int                             { return 0 }
func (h *house) Pace(int)                               {}
func (h *house) End(keep.Outcome, keep.Reason)          {}
func (h *house) transfer(t *testing.T) (r keep.AuditRecord) {
	require.Eventually(t, func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		for _, one := range h.records {
			if one.Action == keep.Uploading || one.Action == keep.Downloading {
				r = one
				return true
			}
		}
		return false
	}, 2*time.Minute, 5*time.Millisecond)
	return r
}

// quick is a server whose patience is short, but longer than a busy machine takes
// for a step.
var quick = ftp.Timeouts{SignIn: time.Second, Idle: time.Second, Connect: time.Second, Stall: time.Second, Reply: 5 * time.Second}

// serve runs a server in clear with a few passive ports per test: some may be another
// program's.
func serve(t *testing.T, timeouts ftp.Timeouts) (*house, *ftp.Server, string) {
	return serveWith(t, timeouts, 20)
}

func serveWith(t *testing.T, timeouts ftp.Timeouts, ports int) (*house, *ftp.Server, string) {
	h := &house{dir: t.TempDir()}
	port := freePort(t)
	s := &ftp.Server{Listener: keep.Listener{Protocol: keep.FTP, Encryption: keep.EncryptionRequired, PassiveLow: port, PassiveHigh: port + ports - 1}, Keeper: h,
		Timeouts: timeouts, Log: slog.New(slog.DiscardHandler)}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() { done <- s.Serve(l) }()
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		s.Shutdown(ctx)
		assert.NoError(t, <-done)
	})
	return h, s, l.Addr().String()
}

// freePort gives a port below those that the system hands out by itself, so that none
// is taken between two uses.
func freePort(t *testing.T) int {
	for {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 10_000+rand.IntN(10_000)))
		if err == nil {
			require.NoError(t, l.Close())
			return l.Addr().(*net.TCPAddr).Port
		}
	}
}

type client struct {
	t    *testing.T
	conn net.Conn
	text *textproto.Reader
}

func connect(t *testing.T, address string) *client {
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	c := &client{t, conn, textproto.NewReader(bufio.NewReader(conn))}
	c.expect(220)
	return c
}

func signedIn(t *testing.T, address string) *client {
	c := connect(t, address)
	c.say("USER ann", 331)
	c.say("PASS right", 230)
	c.say("TYPE I", 200)
	return c
}

func (c *client) expect(code int) string {
	c.t.Helper()
	got, text, err := c.text.ReadResponse(0)
	require.NoError(c.t, err)
	require.Equal(c.t, code, got, text)
	return text
}

func (c *client) say(line string, code int) string {
	c.t.Helper()
	_, err := io.WriteString(c.conn, line+"\r\n")
	require.NoError(c.t, err)
	return c.expect(code)
}

// gone expects that the server has closed the connection.
func (c *client) gone() {
	c.t.Helper()
	_, err := c.text.ReadLine()
	assert.ErrorIs(c.t, err, io.EOF)
}

// passive asks for a passive port and gives its address.
func (c *client) passive() string {
	c.t.Helper()
	var port int
	text := c.say("EPSV", 229)
	_, err := fmt.Sscanf(text[strings.Index(text, "("):], "(|||%d|)", &port)
	require.NoError(c.t, err)
	return fmt.Sprintf("127.0.0.1:%d", port)
}

func (c *client) data() net.Conn {
	c.t.Helper()
	d, err := net.Dial("tcp", c.passive())
	require.NoError(c.t, err)
	c.t.Cleanup(func() { d.Close() })
	return d
}

func TestNobodyHangs(t *testing.T) {
	h, _, address := serve(t, quick)
	t.Run("who never signs in", func(t *testing.T) {
		c := connect(t, address)
		time.Sleep(150 * time.Millisecond)
		c.say("NOOP", 200) // does not win time
		assert.Contains(t, c.expect(421), "nothing was asked for too long")
		c.gone()
	})
	for name, begin := range map[string]func(*testing.T, string) *client{"before the sign-in": connect, "after it": signedIn} {
		t.Run("who sends a byte at a time, "+name, func(t *testing.T) {
			c := begin(t, address)
			started := time.Now()
			for time.Since(started) < 10*time.Second {
				if _, err := io.WriteString(c.conn, "N"); err != nil {
					break
				}
				time.Sleep(100 * time.Millisecond)
			}
			assert.Less(t, time.Since(started), 10*time.Second, "it is kept for ever")
		})
	}
	t.Run("who signs in and sleeps", func(t *testing.T) {
		c := signedIn(t, address)
		c.expect(421)
		c.gone()
	})
	t.Run("whose data connection never comes", func(t *testing.T) {
		c := signedIn(t, address)
		c.passive()
		c.say("STOR never", 150)
		assert.Contains(t, c.expect(425), "is the passive port range open and forwarded?")
		c.say("NOOP", 200)
	})
	t.Run("whose own port is closed", func(t *testing.T) {
		c := signedIn(t, address)
		port := freePort(t)
		c.say(fmt.Sprintf("EPRT |1|127.0.0.1|%d|", port), 200)
		c.say("STOR never", 150)
		assert.Contains(t, c.expect(425), "try passive mode")
	})
	t.Run("who stops sending", func(t *testing.T) {
		c := signedIn(t, address)
		d := c.data()
		c.say("STOR stalled", 150)
		io.WriteString(d, "a little")
		assert.Contains(t, c.expect(426), "nothing moved")
		stored, err := os.ReadFile(filepath.Join(h.dir, "stalled"))
		require.NoError(t, err)
		assert.Equal(t, "a little", string(stored))
	})
	t.Run("who stops reading", func(t *testing.T) {
		require.NoError(t, os.WriteFile(filepath.Join(h.dir, "large"), make([]byte, 64<<20), 0o600))
		c := signedIn(t, address)
		c.data()
		c.say("RETR large", 150)
		assert.Contains(t, c.expect(426), "nothing moved")
	})
}

func TestARunningTransferIsNotIdleness(t *testing.T) {
	h, _, address := serve(t, quick)
	c := signedIn(t, address)
	d := c.data()
	c.say("STOR slow", 150)
	for range 20 { // twice the idle limit in all
		_, err := io.WriteString(d, "drip")
		require.NoError(t, err)
		time.Sleep(100 * time.Millisecond)
	}
	d.Close()
	c.expect(226)
	assert.EqualValues(t, 80, h.transfer(t).Bytes)
}

func TestOnlyTheCommandPeerGetsTheDataConnection(t *testing.T) {
	h, _, address := serve(t, ftp.DefaultTimeouts)
	require.NoError(t, os.WriteFile(filepath.Join(h.dir, "f"), []byte("for ann only"), 0o600))
	c := signedIn(t, address)
	port := c.passive()
	thief := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 9)}}
	stolen, err := thief.Dial("tcp", port)
	require.NoError(t, err)
	defer stolen.Close()
	c.say("RETR f", 150)
	stolen.SetReadDeadline(time.Now().Add(5 * time.Second))
	text, _ := io.ReadAll(stolen)
	assert.Empty(t, text)
	d, err := net.Dial("tcp", port)
	require.NoError(t, err)
	defer d.Close()
	text, err = io.ReadAll(d)
	require.NoError(t, err)
	assert.Equal(t, "for ann only", string(text))
	c.expect(226)
}

func TestAPassiveRangeThatIsUsedUpIsSaid(t *testing.T) {
	var a, b *client
	require.Eventually(t, func() bool { // another test may take the one port first
		_, _, address := serveWith(t, ftp.DefaultTimeouts, 1)
		a, b = signedIn(t, address), signedIn(t, address)
		io.WriteString(a.conn, "EPSV\r\n")
		code, _, _ := a.text.ReadResponse(0)
		return code == 229
	}, 2*time.Minute, time.Millisecond)
	assert.Contains(t, b.say("EPSV", 425), "all passive ports are in use")
	a.passive() // its own one is given back first
	a.say("ABOR", 226)
	b.passive()
	b.say("QUIT", 221)
	b.gone()
	require.Eventually(t, func() bool {
		io.WriteString(a.conn, "EPSV\r\n")
		code, _, _ := a.text.ReadResponse(0)
		return code == 229
	}, 2*time.Minute, 20*time.Millisecond)
}

func TestAPatternThatExplodesIsAnswered(t *testing.T) {
	h, _, address := serve(t, ftp.DefaultTimeouts)
	for n := range 50 {
		require.NoError(t, os.WriteFile(filepath.Join(h.dir, strings.Repeat("a", 200)+fmt.Sprint(n)), nil, 0o600))
	}
	c := signedIn(t, address)
	for _, pattern := range []string{strings.Repeat("*a", 100) + "*b", strings.Repeat("[a-z]*", 60) + "x", strings.Repeat("?", 4000), "*" + strings.Repeat("[", 2000)} {
		d := c.data()
		c.say("NLST "+pattern, 150)
		text, err := io.ReadAll(d)
		require.NoError(t, err)
		assert.Empty(t, text)
		c.expect(226)
	}
}

func TestASCIIIsConvertedOnTheWireOnly(t *testing.T) {
	h, _, address := serve(t, ftp.DefaultTimeouts)
	c := signedIn(t, address)
	c.say("TYPE A", 200)
	d := c.data()
	c.say("STOR notes.txt", 150)
	io.WriteString(d, "one\r\ntwo\r\nlone\rthree")
	d.Close()
	c.expect(226)
	stored, err := os.ReadFile(filepath.Join(h.dir, "notes.txt"))
	require.NoError(t, err)
	assert.Equal(t, "one\ntwo\nlone\rthree", string(stored))
	d = c.data()
	c.say("RETR notes.txt", 150)
	text, err := io.ReadAll(d)
	require.NoError(t, err)
	c.expect(226)
	assert.Equal(t, "one\r\ntwo\r\nlone\rthree", string(text))
}

func TestRestartAppendAndUnique(t *testing.T) {
	h, _, address := serve(t, ftp.DefaultTimeouts)
	c := signedIn(t, address)
	store := func(command, text string) {
		d := c.data()
		c.say(command, 150)
		io.WriteString(d, text)
		d.Close()
		c.expect(226)
	}
	content := func(name string) string {
		text, err := os.ReadFile(filepath.Join(h.dir, name))
		require.NoError(t, err)
		return string(text)
	}
	store("STOR f", "0123456789")
	c.say("REST 4", 350)
	store("STOR f", "FOUR")
	assert.Equal(t, "0123FOUR89", content("f"), "a restart keeps what is behind it")
	store("APPE f", "+")
	assert.Equal(t, "0123FOUR89+", content("f"))
	store("STOR f", "new")
	assert.Equal(t, "new", content("f"))
	d := c.data()
	c.say("REST 1", 350)
	c.say("RETR f", 150)
	text, err := io.ReadAll(d)
	require.NoError(t, err)
	c.expect(226)
	assert.Equal(t, "ew", string(text))
	d = c.data()
	c.say("REST 4", 350)
	c.say("RETR f", 554)
	d.Close()
	d = c.data()
	name := strings.TrimPrefix(c.say("STOU", 150), "FILE: ")
	io.WriteString(d, "unique")
	d.Close()
	c.expect(226)
	assert.Equal(t, "unique", content(name))
	d = c.data()
	c.say("REST 1", 350)
	c.say("NOOP", 200)
	d.Close()
}

func TestCommandsDuringATransferWaitTheirTurn(t *testing.T) {
	_, _, address := serve(t, ftp.DefaultTimeouts)
	c := signedIn(t, address)
	d := c.data()
	c.say("STOR f", 150)
	io.WriteString(d, "x")
	c.say("NOOP", 200)
	_, err := io.WriteString(c.conn, "PWD\r\nSYST\r\n")
	require.NoError(t, err)
	d.Close()
	c.expect(226)
	c.expect(257)
	c.expect(215)
	d = c.data()
	c.say("STOR f", 150)
	_, err = io.WriteString(c.conn, "\xff\xf4\xff\xf2ABOR\r\n") // as Telnet clients send it
	require.NoError(t, err)
	c.expect(426)
	c.expect(226)
	d.Close()
}

func TestThreeWrongPasswordsEndTheConnection(t *testing.T) {
	_, _, address := serve(t, ftp.DefaultTimeouts)
	c := connect(t, address)
	c.say("USER tls-only", 530)
	c.say("PASS right", 503)
	for range 2 {
		c.say("USER ann", 331)
		c.say("PASS wrong", 530)
	}
	c.say("USER ann", 331)
	c.say("PASS wrong", 421)
	c.gone()
}

func TestEveryCommandAnswersOddArguments(t *testing.T) {
	_, _, address := serve(t, ftp.DefaultTimeouts)
	c := signedIn(t, address)
	known := strings.Fields(strings.SplitN(c.say("HELP", 214), ":", 2)[1])
	asked := 0
	for _, verb := range known {
		if verb != strings.ToUpper(verb) || verb == "QUIT" || verb == "REIN" || verb == "HELP" && asked > 0 {
			continue
		}
		for _, arg := range []string{" ", "   ", " \t", " x", " x y z", " ,,,,,", " |||||", " |", " -1", " 99999999999999999999", " /", " ..", " ~", " *", " [", " \\",
			" " + strings.Repeat("é", 300), " \xff\xfe", " a\rb", " -la", " -la -x"} {
			c.say("ABOR", 226) // forgets a data connection that was planned
			_, err := io.WriteString(c.conn, verb+arg+"\r\n")
			require.NoError(t, err)
			code, text, err := c.text.ReadResponse(0)
			require.NoError(t, err, "%s%q", verb, arg)
			assert.GreaterOrEqual(t, code, 200, text)
			assert.Less(t, code, 560, text)
			asked++
		}
	}
	assert.Greater(t, asked, 900)
	c.say("NOOP", 200)
}

func TestRubbishIsAnsweredAndHarmless(t *testing.T) {
	_, _, address := serve(t, ftp.DefaultTimeouts)
	c := connect(t, address)
	c.say(strings.Repeat("A", 20_000), 500)
	c.say("\x00\x01\x02\xfe", 500)
	c.say("", 500)
	c.say("USER ann", 331)
	c.say("PASS right", 230)
	c.say("CWD "+strings.Repeat("d/", 3000), 500)
	c.say("CWD "+strings.Repeat("d/", 1900), 550)
	c.say("MLST \xc3\x28", 550)
	c.say("LIST", 425)
	d := c.data()
	c.say("LIST "+strings.Repeat("*", 200), 150) // a pattern that explodes in a careless matcher
	io.ReadAll(d)
	c.expect(226)
}

func TestACutConnectionIsToldWhy(t *testing.T) {
	h, _, address := serve(t, ftp.DefaultTimeouts)
	c := signedIn(t, address)
	d := c.data()
	c.say("STOR f", 150)
	io.WriteString(d, "part")
	time.Sleep(50 * time.Millisecond)
	h.mu.Lock()
	cut := h.cuts[0]
	h.mu.Unlock()
	cut(keep.Refuse(keep.EndedByOperator, "an operator ended the session"))
	assert.Equal(t, "an operator ended the session", c.expect(426))
	assert.Contains(t, c.expect(421), "an operator ended the session")
	c.gone()
	r := h.transfer(t)
	assert.Equal(t, keep.Interrupted, r.Outcome)
	assert.Equal(t, keep.EndedByOperator, r.Reason)
	require.Eventually(t, func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		return len(h.left) == 1 && h.left[0].Reason == keep.EndedByOperator
	}, 2*time.Minute, 5*time.Millisecond)
}

func TestShutdownLetsATransferEndAndCutsWhatStays(t *testing.T) {
	for name, ends := range map[string]bool{"a transfer that ends": true, "a transfer that does not": false} {
		t.Run(name, func(t *testing.T) {
			h, s, address := serve(t, ftp.DefaultTimeouts)
			idle, busy := connect(t, address), signedIn(t, address)
			d := busy.data()
			busy.say("STOR f", 150)
			io.WriteString(d, "first ")
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			defer cancel()
			stopped := make(chan struct{})
			go func() { s.Shutdown(ctx); close(stopped) }()
			assert.Contains(t, idle.expect(421), "the service is stopping")
			idle.gone()
			_, err := net.DialTimeout("tcp", address, time.Second)
			assert.Error(t, err, "no new connections")
			if ends {
				io.WriteString(d, "last")
				d.Close()
				busy.expect(226)
				busy.expect(421)
			}
			<-stopped
			r := h.transfer(t)
			if ends {
				assert.Equal(t, keep.Done, r.Outcome)
				assert.EqualValues(t, 10, r.Bytes)
			} else {
				assert.Equal(t, keep.Interrupted, r.Outcome)
				assert.EqualValues(t, 6, r.Bytes)
			}
		})
	}
}

// What clients of all times send is answered usefully.
func TestOldWaysOfAskingAreAnswered(t *testing.T) {
	h, _, address := serve(t, ftp.DefaultTimeouts)
	c := signedIn(t, address)
	require.NoError(t, os.WriteFile(filepath.Join(h.dir, "f"), []byte("123456789"), 0o640))
	require.NoError(t, os.MkdirAll(filepath.Join(h.dir, "-d"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(h.dir, "-d", "inside"), nil, 0o600))

	c.say("REST 100", 350)
	c.data()
	assert.Contains(t, c.say("STOR f", 554), "the file is shorter than that")
	c.say("REST 1", 350)
	c.data()
	c.say("STOR nothing-there", 554)
	assert.NoFileExists(t, filepath.Join(h.dir, "nothing-there"))
	c.say("REST 9", 350)
	d := c.data()
	c.say("STOR f", 150)
	io.WriteString(d, "0")
	d.Close()
	c.expect(226)

	d = c.data()
	assert.Contains(t, c.say("RETR f", 150), "(10 bytes)")
	io.ReadAll(d)
	c.expect(226)
	d = c.data()
	c.say("NLST -d", 150)
	text, err := io.ReadAll(d)
	require.NoError(t, err)
	assert.Equal(t, "inside\r\n", string(text))
	c.expect(226)
	d = c.data()
	c.say("NLST -la", 150)
	text, err = io.ReadAll(d)
	require.NoError(t, err)
	assert.Contains(t, string(text), "f\r\n")
	c.expect(226)

	mode := func() os.FileMode {
		info, err := os.Stat(filepath.Join(h.dir, "f"))
		require.NoError(t, err)
		return info.Mode()
	}
	for _, change := range []struct {
		say  string
		mode os.FileMode
	}{{"600", 0o600}, {"u+x", 0o700}, {"go=r", 0o744}, {"a-x,g+w", 0o664}, {"+X", 0o664}, {"u=rwx,+X", 0o775}, {"0640", 0o640}, {"2750", 0o750}} {
		c.say("SITE CHMOD "+change.say+" f", 200)
		assert.Equal(t, change.mode, mode(), change.say)
	}
	assert.Contains(t, c.say("SITE CHMOD 4700 f", 200), "special bits are not set")
	for _, bad := range []string{"u+q", "z+x", "99", "70000", "rwx"} {
		c.say("SITE CHMOD "+bad+" f", 501)
	}
	c.say("SITE SYMLINK f link", 200)
	target, err := os.Readlink(filepath.Join(h.dir, "link"))
	require.NoError(t, err)
	assert.Equal(t, "f", target)
	c.say("MDTM 20200506070809 f", 213)
	assert.Equal(t, "20200506070809", c.say("MDTM f", 213))
	require.NoError(t, os.WriteFile(filepath.Join(h.dir, "20200506070809 f"), nil, 0o600))
	assert.NotEqual(t, "20200506070809", c.say("MDTM 20200506070809 f", 213), "a name like that is a name")
	c.say("PRET RETR f", 200)
	c.say("MFCT 20200506070809 f", 504)

	require.NoError(t, os.WriteFile(filepath.Join(h.dir, "f"), []byte("123456789"), 0o640))
	assert.Equal(t, "CBF43926", c.say("XCRC f", 250))
	assert.Equal(t, "CBF43926", c.say(`XCRC "f"`, 250))
	assert.Equal(t, "25F9E794323B453885F5181F1B624D0B", c.say(`XMD5 "f" 0 9`, 250))
	assert.Equal(t, "202CB962AC59075B964B07152D234B70", c.say(`XMD5 "f" 0 3`, 250))
	assert.Equal(t, "F7C3BC1D808E04732ADF679965CCC34CA7AE3441", c.say("XSHA1 f", 250))
	c.say(`XMD5 "f" x`, 501)
	c.say("NOOP", 200)
}
