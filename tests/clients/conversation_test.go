package clients_test

import (
	"crypto/tls"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestFactsAndListingsSayWhatIsThere(t *testing.T) {
	k := testkit.Start(t)
	k.Account("print-bureau", "-rights", "read-only", "-mount", "/in=files:drops", "-grant", "/in=drop-only,mkdir")
	home := k.Home("print-bureau")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "plates"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(home, "plate-01.tif"), []byte("12345"), 0o640))
	old := time.Date(2020, 5, 6, 7, 8, 9, 0, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(home, "plate-01.tif"), old, old))
	c := ftptalk.As(t, k.Address("ftps"), "print-bureau", testkit.Password)
	list := func(command string) []string {
		d := c.Passive()
		c.Say(command, 150)
		text, err := io.ReadAll(d)
		require.NoError(t, err)
		c.Expect(226)
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
	d := c.Passive()
	c.Say("LIST in", 550)
	d.Close()
	assert.Contains(t, c.Say("DELE plate-01.tif", 550), "the grant on / gives read-only")
}

func TestAnUploadCanBeAbortedInTheMiddle(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	c := ftptalk.As(t, k.Address("ftps"), "records-desk", testkit.Password)
	d := c.Passive()
	c.Say("STOR big", 150)
	_, err := d.Write(make([]byte, 100_000))
	require.NoError(t, err)
	require.Eventually(t, func() bool { found := k.Transfers(); return len(found) == 1 && found[0].Bytes == 100_000 }, testkit.Patience, 10*time.Millisecond)
	c.Say("STAT", 211)
	c.Say("ABOR", 426)
	c.Expect(226)
	c.Say("NOOP", 200)
	found := k.Transfers()
	require.Len(t, found, 1)
	assert.Equal(t, "interrupted", found[0].Outcome)
	assert.EqualValues(t, "client-aborted", found[0].Reason)
	assert.EqualValues(t, 100_000, found[0].Bytes)
	assert.Len(t, testkit.OnDisk(t, filepath.Join(k.Home("records-desk"), "big")), 100_000, "what arrived is there to resume")
}

func TestAClientThatVanishesLeavesAnInterruptedTransfer(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	c := ftptalk.As(t, k.Address("ftps"), "records-desk", testkit.Password)
	d := c.Passive()
	c.Say("STOR big", 150)
	_, err := d.Write(make([]byte, 50_000))
	require.NoError(t, err)
	require.Eventually(t, func() bool { found := k.Transfers(); return len(found) == 1 && found[0].Bytes == 50_000 }, testkit.Patience, 10*time.Millisecond)
	c.Conn.(*tls.Conn).NetConn().Close()
	d.NetConn().Close()
	require.Eventually(t, func() bool { found := k.Transfers(); return len(found) == 1 && found[0].Outcome == "interrupted" }, testkit.Patience, 20*time.Millisecond)
	var live []api.Session
	require.Eventually(t, func() bool { k.Must(&live, "session", "list"); return len(live) == 0 }, testkit.Patience, 20*time.Millisecond)
}

func TestCommandsInClearBehindAUTHAreNotTakenAsProtected(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	conn, err := net.Dial("tcp", k.Address("ftp"))
	require.NoError(t, err)
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(testkit.Patience))
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
		k.Account("records-desk", "-encryption=optional")
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
			assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("records-desk"), "g")))
		}
	}
}
