package clients_test

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/tests/testkit"
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
