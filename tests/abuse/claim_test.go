package abuse_test

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
)

// Whoever shares the client's address may reach the passive port first: one that says nothing, and one that shakes
// hands. Neither gets a byte of a client that resumes, nor puts one into its file.
func TestADataConnectionBelongsToWhoResumes(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	file, content := testkit.File(t, 200_000)
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	begin := func(command string) {
		_, err := fmt.Fprint(c.Conn, command+"\r\n")
		require.NoError(t, err)
		c.Expect(150)
	}
	fetch := func(d *tls.Conn) {
		t.Helper()
		got, err := io.ReadAll(d)
		require.NoError(t, err)
		assert.Equal(t, content, got)
		c.Expect(226)
	}
	out, err := k.Curl("ann", "ftps", "/f", "-T", file)
	require.NoError(t, err, out)

	d := c.Passive()
	begin("RETR f")
	fetch(d)
	require.True(t, d.ConnectionState().DidResume)

	for _, command := range []string{"RETR f", "STOR g"} {
		c.Say("EPSV", 229)
		mine := c.Data().(*tls.Conn)
		at := mine.RemoteAddr().String()
		mine.Close() // it only told where the port is
		silent, err := net.Dial("tcp", at)
		require.NoError(t, err)
		defer silent.Close()
		raw, err := net.Dial("tcp", at)
		require.NoError(t, err)
		defer raw.Close()
		raw.SetDeadline(time.Now().Add(testkit.Patience))
		thief := tls.Client(raw, ftptalk.AnyCertificate)
		begin(command)
		require.NoError(t, thief.Handshake())
		thief.Write([]byte("not the client's"))
		d := c.Data().(*tls.Conn)
		if command == "RETR f" {
			fetch(d)
		} else {
			_, err = d.Write(content)
			require.NoError(t, err)
			require.NoError(t, d.Close())
			c.Expect(226)
			assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "g")))
		}
		require.True(t, d.ConnectionState().DidResume)
		got, _ := io.ReadAll(thief)
		assert.Empty(t, got)
	}

	// A client that has no ticket left is let in all the same: at once, when it was so before.
	c.TLS = ftptalk.AnyCertificate
	for range 2 {
		d := c.Passive()
		begin("RETR f")
		fetch(d)
	}
}
