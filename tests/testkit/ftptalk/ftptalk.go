// Package ftptalk speaks FTP command by command, also what no client would send.
package ftptalk

import (
	"bufio"
	"crypto/tls"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// AnyCertificate trusts every service.
var AnyCertificate = &tls.Config{InsecureSkipVerify: true}

// Resuming is AnyCertificate that resumes the sessions that it had itself.
func Resuming() *tls.Config {
	return &tls.Config{InsecureSkipVerify: true, ServerName: "localhost", ClientSessionCache: tls.NewLRUClientSessionCache(8)}
}

// Talk is one conversation.
type Talk struct {
	Conn    net.Conn
	TLS     *tls.Config
	t       *testing.T
	in      *bufio.Reader
	port    string // of the last PASV or EPSV
	private bool   // PROT P
}

// Open connects and reads nothing yet; implicit says that TLS comes first.
func Open(t *testing.T, address string, implicit bool) *Talk {
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(testkit.Patience))
	c := &Talk{Conn: conn, TLS: Resuming(), t: t, in: bufio.NewReader(conn)}
	if implicit {
		c.Secure()
	}
	return c
}

// Dial connects to an implicit-TLS listener and reads its greeting.
func Dial(t *testing.T, address string) *Talk {
	c := Open(t, address, true)
	c.Expect(220)
	return c
}

// As signs in and makes ready for transfers.
func As(t *testing.T, address, account, password string) *Talk {
	c := Dial(t, address)
	c.Say("USER "+account, 331)
	c.Say("PASS "+password, 230)
	c.Say("PBSZ 0", 200)
	c.Say("PROT P", 200)
	c.Say("TYPE I", 200)
	return c
}

// Secure goes on over TLS.
func (c *Talk) Secure() {
	secured := tls.Client(c.Conn, c.TLS)
	require.NoError(c.t, secured.Handshake())
	c.Conn, c.in = secured, bufio.NewReader(secured)
}

// Command sends a line and gives the reply to it; see [Talk.Reply].
func (c *Talk) Command(line string) (code int, lines []string) {
	c.t.Helper()
	_, err := io.WriteString(c.Conn, line+"\r\n")
	require.NoError(c.t, err)
	code, lines = c.Reply()
	if level, isProt := strings.CutPrefix(strings.ToUpper(line), "PROT "); isProt && code == 200 {
		c.private = level == "P"
	}
	return code, lines
}

var passivePort = regexp.MustCompile(`\(\d+,\d+,\d+,\d+,(\d+),(\d+)\)|\(\|\|\|(\d+)\|\)`)

// Reply reads one reply: its number, 0 when the connection has ended, and its lines as they came.
func (c *Talk) Reply() (code int, lines []string) {
	c.t.Helper()
	for first := ""; ; {
		line, err := c.in.ReadString('\n')
		if err == io.EOF {
			return 0, lines
		}
		require.NoError(c.t, err)
		line = strings.TrimRight(line, "\r\n")
		if p := passivePort.FindStringSubmatch(line); p != nil {
			if c.port = p[3]; c.port == "" {
				high, _ := strconv.Atoi(p[1])
				low, _ := strconv.Atoi(p[2])
				c.port = strconv.Itoa(high<<8 | low)
			}
		}
		lines = append(lines, line)
		if first == "" {
			first = line[:min(3, len(line))]
		}
		if strings.HasPrefix(line, first+" ") {
			code, err = strconv.Atoi(first)
			require.NoError(c.t, err, line)
			return code, lines
		}
	}
}

// Expect reads a reply that has to have a number, and gives its text.
func (c *Talk) Expect(code int) string {
	c.t.Helper()
	got, lines := c.Reply()
	return c.held(code, got, lines)
}

// Say sends a command that has to be answered with a number, and gives the text of the reply.
func (c *Talk) Say(line string, code int) string {
	c.t.Helper()
	got, lines := c.Command(line)
	return c.held(code, got, lines)
}

func (c *Talk) held(code, got int, lines []string) string {
	c.t.Helper()
	number := strconv.Itoa(got)
	for i, line := range lines {
		if strings.HasPrefix(line, number+" ") || strings.HasPrefix(line, number+"-") {
			lines[i] = line[len(number)+1:]
		}
	}
	text := strings.Join(lines, "\n")
	require.Equal(c.t, code, got, text)
	return text
}

// Data connects to the port that was named last, over TLS after PROT P.
func (c *Talk) Data() net.Conn {
	c.t.Helper()
	host, _, _ := net.SplitHostPort(c.Conn.RemoteAddr().String())
	raw, err := net.Dial("tcp", net.JoinHostPort(host, c.port))
	require.NoError(c.t, err)
	c.t.Cleanup(func() { raw.Close() })
	if c.private {
		return tls.Client(raw, c.TLS)
	}
	return raw
}

// Passive opens a private data connection with EPSV.
func (c *Talk) Passive() *tls.Conn {
	c.t.Helper()
	c.Say("EPSV", 229)
	return c.Data().(*tls.Conn)
}
