package clients_test

import (
	"fmt"
	"net"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
	"urbankeep/tests/testkit/sftptalk"
)

// A client that writes one piece after the other, and holds small parts back until what is
// under way is acknowledged (RFC 896), is not kept waiting for that.
func TestWritesDoNotWaitForAcknowledgements(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	write := func(noDelay bool) time.Duration {
		conn, err := net.Dial("tcp", k.Address("sftp"))
		require.NoError(t, err)
		require.NoError(t, conn.(*net.TCPConn).SetNoDelay(noDelay))
		shell, channels, requests, err := ssh.NewClientConn(conn, k.Address("sftp"), &ssh.ClientConfig{User: "ann", Auth: []ssh.AuthMethod{ssh.Password(testkit.Password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
		require.NoError(t, err)
		client := ssh.NewClient(shell, channels, requests)
		defer client.Close()
		r := sftptalk.Channel(t, client)
		r.Send(sftptalk.FxpInit, sftptalk.U32(3))
		r.Receive()
		handle := r.Open("/f", sftptalk.FxfWrite|sftptalk.FxfCreat)
		piece := make([]byte, 32_750)
		started := time.Now()
		for n := range 60 {
			require.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpWrite, handle, sftptalk.U64(uint64(n*len(piece))), sftptalk.U32(uint32(len(piece))), piece))
		}
		return time.Since(started)
	}
	quick, slow := write(true), write(false)
	t.Logf("60 writes: %s at once, %s held back", quick, slow)
	assert.Less(t, slow, 8*quick)
}

// ftplibUploads puts thirty small files over FTPS, each on a data connection whose small parts are held back (RFC 896) or not, and
// says how long that took, in seconds.
const ftplibUploads = `
import ftplib, io, socket, ssl, sys, time
host, port, user, password, held = sys.argv[1:]
class Held(ftplib.FTP_TLS):
    def ntransfercmd(self, cmd, rest=None):
        conn, size = ftplib.FTP.ntransfercmd(self, cmd, rest)
        conn.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 0 if held == 'held' else 1)
        return self.context.wrap_socket(conn, server_hostname=self.host, session=self.sock.session), size
context = ssl._create_unverified_context()
f = Held(context=context)
f.connect(host, int(port))
f.login(user, password)
f.prot_p()
began = time.time()
for n in range(30):
    f.storbinary('STOR f%d' % n, io.BytesIO(b'x' * 5000))
print('took', time.time() - began)
for n in range(30):
    f.storbinary('STOR e%d' % n, io.BytesIO(b''))
f.quit()
`

// An FTPS client that holds small parts back, as Python's does, is not kept waiting for each file's end.
func TestFTPSUploadsDoNotWaitForAcknowledgements(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	host, port, err := net.SplitHostPort(k.Address("ftp"))
	require.NoError(t, err)
	upload := func(how string) (seconds float64) {
		out, err := testkit.Run(t, ftplibUploads, "/usr/bin/python3", "-", host, port, "ann", testkit.Password, how)
		require.NoError(t, err, out)
		_, err = fmt.Sscanf(out, "took %f", &seconds)
		require.NoError(t, err, out)
		return seconds
	}
	quick, held := upload("at once"), upload("held")
	t.Logf("30 files: %.3f s at once, %.3f s held back", quick, held)
	assert.Less(t, held, 3*quick+0.3, "30 delayed acknowledgements are 1.2 s")
}

// A client that begins TLS on a data connection as soon as it is there has it when the 150 comes: some take that for the word that they
// may send, and end an empty file on a connection that has no TLS yet. One that begins after the 150 is served as before.
func TestTLSThatHasBegunIsThereBeforeThe150(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	for n := range 12 {
		name, early := fmt.Sprint("f", n), n%3 != 2
		d := c.Passive()
		shaken := make(chan error, 1)
		begin := func() { shaken <- d.Handshake() }
		if early {
			go begin()
			time.Sleep(5 * time.Millisecond)
		}
		c.Say("STOR "+name, 150)
		if !early {
			go begin()
		}
		select {
		case err := <-shaken:
			require.NoError(t, err)
		case <-time.After(map[bool]time.Duration{true: 100 * time.Millisecond, false: testkit.Patience}[early]): // else the 150 waited for nothing
			t.Fatal("the handshake was not done when the 150 came")
		}
		require.NoError(t, d.Close())
		c.Expect(226)
		assert.Empty(t, testkit.OnDisk(t, filepath.Join(k.Home("ann"), name)))
	}
	// One that has come and is not used is let go.
	d := c.Passive()
	require.NoError(t, d.NetConn().Close())
	c.Say("STOR gone", 150)
	code, _ := c.Reply()
	assert.GreaterOrEqual(t, code, 400)
	c.Say("NOOP", 200)
}
