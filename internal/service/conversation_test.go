package service_test

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/testkit"
	"urbankeep/internal/web/api"
)

// talk is a scripted FTP conversation over TLS.
type talk struct {
	t    *testing.T
	conn *tls.Conn
	text *textproto.Reader
}

var anyCertificate = &tls.Config{InsecureSkipVerify: true, ClientSessionCache: tls.NewLRUClientSessionCache(8)}

// dial connects to the implicit-TLS listener.
func dial(t *testing.T, address string) *talk {
	conn, err := tls.Dial("tcp", address, anyCertificate)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(time.Minute))
	c := &talk{t, conn, textproto.NewReader(bufio.NewReader(conn))}
	c.expect(220)
	return c
}

// dialAs signs in and makes ready for transfers.
func dialAs(t *testing.T, address, account, password string) *talk {
	c := dial(t, address)
	c.say("USER "+account, 331)
	c.say("PASS "+password, 230)
	c.say("PBSZ 0", 200)
	c.say("PROT P", 200)
	c.say("TYPE I", 200)
	return c
}

func (c *talk) expect(code int) string {
	c.t.Helper()
	got, text, err := c.text.ReadResponse(0)
	require.NoError(c.t, err)
	require.Equal(c.t, code, got, text)
	return text
}

func (c *talk) say(line string, code int) string {
	c.t.Helper()
	_, err := fmt.Fprintf(c.conn, "%s\r\n", line)
	require.NoError(c.t, err)
	return c.expect(code)
}

// passive opens a data connection with EPSV.
func (c *talk) passive() *tls.Conn {
	c.t.Helper()
	var port int
	text := c.say("EPSV", 229)
	_, err := fmt.Sscanf(text[strings.Index(text, "("):], "(|||%d|)", &port)
	require.NoError(c.t, err)
	host, _, _ := net.SplitHostPort(c.conn.RemoteAddr().String())
	raw, err := net.Dial("tcp", net.JoinHostPort(host, fmt.Sprint(port)))
	require.NoError(c.t, err)
	c.t.Cleanup(func() { raw.Close() })
	return tls.Client(raw, anyCertificate)
}

func TestRepliesHaveTheRightNumber(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	require.NoError(t, os.MkdirAll(filepath.Join(k.Home("records-desk"), "full"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("records-desk"), "full", "f"), []byte("12345"), 0o640))
	c := dial(t, k.Address("ftps"))
	for _, step := range []struct {
		line string
		code int
	}{
		{"PWD", 530}, {"PASS x", 503}, {"NONSENSE", 500}, {"USER", 501}, {"HOST keep.example", 220}, {"AUTH TLS", 503}, {"AUTH KRB", 504},
		{"FEAT", 211}, {"SYST", 215}, {"HELP", 214}, {"HELP STOR", 214}, {"OPTS UTF8 ON", 200}, {"OPTS X", 501}, {"LANG fr", 504}, {"CLNT test", 200},
		{"USER records-desk", 331}, {"PASS " + testkit.Password, 230}, {"USER x", 503}, {"ACCT x", 202},
		{"PWD", 257}, {"XPWD", 257}, {"CWD none", 550}, {"CWD full/f", 550}, {"CWD full", 250}, {"CDUP", 250}, {"CWD /../..", 250}, {"PWD", 257},
		{"TYPE E", 504}, {"TYPE A", 200}, {"SIZE full/f", 550}, {"REST 3", 504}, {"TYPE I", 200}, {"SIZE full/f", 213}, {"MDTM full/f", 213}, {"MDTM none", 550},
		{"STRU F", 200}, {"STRU R", 504}, {"MODE S", 200}, {"MODE B", 504}, {"RETR full/f", 425}, {"PROT C", 534}, {"CCC", 534}, {"PBSZ 0", 200},
		{"MKD new", 257}, {"MKD new", 550}, {"RMD full", 550}, {"RMD new", 250}, {"DELE full", 550}, {"DELE none", 550},
		{"RNTO x", 503}, {"RNFR none", 550}, {"RNFR full/f", 350}, {"NOOP", 200}, {"RNTO full/g", 503}, {"RNFR full/f", 350}, {"RNTO full/g", 250},
		{"MFMT 20250203040506 full/g", 213}, {"MFMT yesterday full/g", 501}, {"SITE CHMOD 600 full/g", 200}, {"SITE CHMOD 9 full/g", 501}, {"SITE EXEC ls", 504},
		{"MLST full/g", 250}, {"STAT", 211}, {"STAT full", 213}, {"ABOR", 226}, {"ALLO 100", 200}, {"REST x", 501},
		{"PORT 8,8,8,8,200,1", 504}, {"PORT 127,0,0,1,0,22", 504}, {"PORT 1,2", 501}, {"EPRT |1|8.8.8.8|5000|", 504}, {"EPRT |3|x|1|", 501}, {"EPSV 2", 522}, {"EPSV 7", 501},
		{"EPSV ALL", 200}, {"PASV", 501}, {"PORT 127,0,0,1,200,1", 501},
		{"MKD a\x00b", 553}, {"REIN", 220}, {"PWD", 530}, {"QUIT", 221},
	} {
		c.say(step.line, step.code)
	}
	text, err := io.ReadAll(c.conn)
	assert.NoError(t, err)
	assert.Empty(t, text)
}

func TestFactsAndListingsSayWhatIsThere(t *testing.T) {
	k := testkit.Start(t)
	k.Account("print-bureau", "-rights", "read-only", "-mount", "/in=files:drops", "-grant", "/in=drop-only,mkdir")
	home := k.Home("print-bureau")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "plates"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(home, "plate-01.tif"), []byte("12345"), 0o640))
	old := time.Date(2020, 5, 6, 7, 8, 9, 0, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(home, "plate-01.tif"), old, old))
	c := dialAs(t, k.Address("ftps"), "print-bureau", testkit.Password)
	list := func(command string) []string {
		d := c.passive()
		c.say(command, 150)
		text, err := io.ReadAll(d)
		require.NoError(t, err)
		c.expect(226)
		return strings.Split(strings.TrimSuffix(string(text), "\r\n"), "\r\n")
	}
	rows := list("MLSD")
	require.Len(t, rows, 4)
	assert.Contains(t, rows[0], "type=cdir;")
	assert.Contains(t, rows[1], "type=dir;")
	assert.Contains(t, rows[1], "perm=cem;", "what the grant on /in says")
	assert.True(t, strings.HasSuffix(rows[1], " in"))
	assert.Contains(t, rows[2], "type=file;size=5;modify=20200506070809;perm=r;")
	assert.Contains(t, rows[2], "unix.mode=0640; plate-01.tif")
	rows = list("LIST -la")
	assert.Regexp(t, `^-rw-r-----   1 print-bureau print-bureau            5 May  6  2020 plate-01\.tif$`, rows[1])
	assert.Equal(t, []string{"plate-01.tif"}, list("NLST *.tif"))
	assert.Equal(t, []string{""}, list("NLST *.none"))
	d := c.passive()
	c.say("LIST in", 550)
	d.Close()
	assert.Contains(t, c.say("DELE plate-01.tif", 550), "the grant on / gives read-only")
}

func TestAnUploadCanBeAbortedInTheMiddle(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	c := dialAs(t, k.Address("ftps"), "records-desk", testkit.Password)
	d := c.passive()
	c.say("STOR big", 150)
	_, err := d.Write(make([]byte, 100_000))
	require.NoError(t, err)
	require.Eventually(t, func() bool { found := transfers(k); return len(found) == 1 && found[0].Bytes == 100_000 }, 10*time.Second, 10*time.Millisecond)
	c.say("STAT", 211)
	c.say("ABOR", 426)
	c.expect(226)
	c.say("NOOP", 200)
	found := transfers(k)
	require.Len(t, found, 1)
	assert.Equal(t, "interrupted", found[0].Outcome)
	assert.EqualValues(t, "client-aborted", found[0].Reason)
	assert.EqualValues(t, 100_000, found[0].Bytes)
	assert.Len(t, onDisk(t, filepath.Join(k.Home("records-desk"), "big")), 100_000, "what arrived is there to resume")
}

func TestAClientThatVanishesLeavesAnInterruptedTransfer(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	c := dialAs(t, k.Address("ftps"), "records-desk", testkit.Password)
	d := c.passive()
	c.say("STOR big", 150)
	_, err := d.Write(make([]byte, 50_000))
	require.NoError(t, err)
	require.Eventually(t, func() bool { found := transfers(k); return len(found) == 1 && found[0].Bytes == 50_000 }, 10*time.Second, 10*time.Millisecond)
	c.conn.NetConn().Close()
	d.NetConn().Close()
	require.Eventually(t, func() bool { found := transfers(k); return len(found) == 1 && found[0].Outcome == "interrupted" }, 10*time.Second, 20*time.Millisecond)
	var live []api.Session
	require.Eventually(t, func() bool { k.Must(&live, "session", "list"); return len(live) == 0 }, 10*time.Second, 20*time.Millisecond)
}

func TestCommandsInClearBehindAUTHAreNotTakenAsProtected(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	conn, err := net.Dial("tcp", k.Address("ftp"))
	require.NoError(t, err)
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	_, err = io.WriteString(conn, "AUTH TLS\r\nUSER records-desk\r\n")
	require.NoError(t, err)
	text, _ := io.ReadAll(conn)
	assert.Contains(t, string(text), "\r\n503 ")
	assert.NotContains(t, string(text), "234")
}

func TestPassiveAndActiveModeOverBothFamilies(t *testing.T) {
	file, content := testkit.File(t, 100_000)
	for _, host := range []string{"127.0.0.1", "[::1]"} {
		k := testkit.StartOn(t, testkit.Folder(t), host)
		k.Account("records-desk", "-plain")
		// Debian's curl does no TLS on active data connections, so it goes in clear there; lftp does.
		active := []string{"--no-ssl", "--ftp-port", strings.Trim(host, "[]")}
		modes := [][]string{nil, active}
		if host == "127.0.0.1" {
			modes = append(modes, []string{"--disable-epsv"}, append(active, "--disable-eprt"))
		}
		for _, mode := range modes {
			out, err := k.Curl("records-desk", "ftp", "/f", append(mode, "-T", file)...)
			require.NoError(t, err, "%v: %s", mode, out)
			out, err = k.Curl("records-desk", "ftp", "/f", mode...)
			require.NoError(t, err, mode)
			assert.True(t, strings.HasSuffix(out, string(content)), mode)
		}
		for _, passive := range []string{"on", "off"} {
			out, err := k.LFTP("records-desk", "ftp", "set ftp:passive-mode "+passive, "put "+file+" -o g", "get g -o "+filepath.Join(t.TempDir(), "back"))
			require.NoError(t, err, out)
			assert.Equal(t, content, onDisk(t, filepath.Join(k.Home("records-desk"), "g")))
		}
	}
}
