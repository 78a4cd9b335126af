// Package sftptalk speaks SFTP packet by packet, also what no client would send.
package sftptalk

import (
	"encoding/binary"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/tests/testkit"
)

// Talk is one session.
type Talk struct {
	t    *testing.T
	In   io.WriteCloser
	Out  io.Reader
	SSH  *ssh.Client
	next uint32
}

// The parts of the protocol that the tests name (draft-ietf-secsh-filexfer-02).
const (
	FxpInit, FxpVersion, FxpOpen, FxpClose, FxpRead, FxpWrite = 1, 2, 3, 4, 5, 6
	FxpLstat, FxpFstat, FxpSetstat, FxpOpendir, FxpReaddir    = 7, 8, 9, 11, 12
	FxpRemove, FxpMkdir, FxpRealpath, FxpStat, FxpRename      = 13, 14, 16, 17, 18
	FxpReadlink, FxpSymlink, FxpStatus, FxpHandle, FxpData    = 19, 20, 101, 102, 103
	FxpName, FxpAttrs, FxpExtended, FxpReply                  = 104, 105, 200, 201

	FxOK, FxEOF, FxNoSuchFile, FxDenied, FxFailure, FxBadMessage, FxUnsupported = 0, 1, 2, 3, 4, 5, 8
	FxfRead, FxfWrite, FxfAppend, FxfCreat, FxfTrunc, FxfExcl                   = 1, 2, 4, 8, 16, 32
)

// U32, U64, Str and NoAttrs are values as they go into requests; Join puts them together.
func U32(n uint32) []byte { return binary.BigEndian.AppendUint32(nil, n) }

func U64(n uint64) []byte { return binary.BigEndian.AppendUint64(nil, n) }

func Str(s string) []byte { return append(U32(uint32(len(s))), s...) }

func NoAttrs() []byte { return U32(0) }

func Join(parts ...[]byte) (all []byte) {
	for _, p := range parts {
		all = append(all, p...)
	}
	return all
}

// SSH signs in with [testkit.Password].
func SSH(t *testing.T, k *testkit.Keep, account string) *ssh.Client {
	client, err := ssh.Dial("tcp", k.Address("sftp"), &ssh.ClientConfig{User: account, Auth: []ssh.AuthMethod{ssh.Password(testkit.Password)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: testkit.Patience})
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	return client
}

// SSHWithKey signs in with a private key.
func SSHWithKey(t *testing.T, k *testkit.Keep, account, file string) *ssh.Client {
	signer, err := ssh.ParsePrivateKey(testkit.OnDisk(t, file))
	require.NoError(t, err)
	client, err := ssh.Dial("tcp", k.Address("sftp"), &ssh.ClientConfig{User: account, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	return client
}

// Channel opens an sftp channel without a greeting.
func Channel(t *testing.T, client *ssh.Client) *Talk {
	session, err := client.NewSession()
	require.NoError(t, err)
	in, err := session.StdinPipe()
	require.NoError(t, err)
	out, err := session.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, session.RequestSubsystem("sftp"))
	return &Talk{t: t, In: in, Out: out, SSH: client}
}

// Dial signs in, opens a channel and greets.
func Dial(t *testing.T, k *testkit.Keep, account string) *Talk {
	r := Channel(t, SSH(t, k, account))
	r.Send(FxpInit, U32(3))
	kind, body := r.Receive()
	require.EqualValues(t, FxpVersion, kind)
	require.Equal(t, U32(3), body[:4])
	return r
}

func (r *Talk) Send(kind byte, body []byte) {
	r.t.Helper()
	_, err := r.In.Write(Join(U32(uint32(len(body)+1)), []byte{kind}, body))
	require.NoError(r.t, err)
}

func (r *Talk) Receive() (kind byte, body []byte) {
	r.t.Helper()
	var size [4]byte
	_, err := io.ReadFull(r.Out, size[:])
	require.NoError(r.t, err)
	body = make([]byte, binary.BigEndian.Uint32(size[:]))
	_, err = io.ReadFull(r.Out, body)
	require.NoError(r.t, err)
	return body[0], body[1:]
}

// Ask sends one request and gives its reply without the request's number.
func (r *Talk) Ask(kind byte, body ...[]byte) (byte, []byte) {
	r.t.Helper()
	r.next++
	r.Send(kind, Join(append([][]byte{U32(r.next)}, body...)...))
	got, reply := r.Receive()
	require.Equal(r.t, U32(r.next), reply[:4], "the reply has another number")
	return got, reply[4:]
}

// Status sends a request that is answered by a status, and gives its code.
func (r *Talk) Status(kind byte, body ...[]byte) uint32 {
	r.t.Helper()
	got, reply := r.Ask(kind, body...)
	require.EqualValues(r.t, FxpStatus, got)
	return binary.BigEndian.Uint32(reply)
}

// Open gives a handle as it goes into requests.
func (r *Talk) Open(name string, flags uint32) []byte {
	r.t.Helper()
	got, reply := r.Ask(FxpOpen, Str(name), U32(flags), NoAttrs())
	require.EqualValues(r.t, FxpHandle, got, "%q", reply)
	return reply
}

func (r *Talk) Read(handle []byte, offset uint64, size uint32) string {
	r.t.Helper()
	got, reply := r.Ask(FxpRead, handle, U64(offset), U32(size))
	if got == FxpStatus {
		return fmt.Sprint("status ", binary.BigEndian.Uint32(reply))
	}
	return string(reply[4:])
}

// SendAhead sends a request with a number of its own and does not wait.
func (r *Talk) SendAhead(kind byte, id uint32, body ...[]byte) {
	r.Send(kind, Join(append([][]byte{U32(id)}, body...)...))
}
