package clients_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
	"urbankeep/tests/testkit/sftptalk"
)

// pythonUpload uploads with Python's ftplib, over TLS with its data, and prints what it is told.
const pythonUpload = `
import ftplib, ssl, sys
host, port, user, password, name = sys.argv[1:6]
f = ftplib.FTP_TLS(context=ssl._create_unverified_context())
f.connect(host, int(port)); f.login(user, password); f.prot_p()
try:
    f.storbinary("STOR " + name, open(sys.argv[6], "rb"))
    print("stored")
except Exception as e:
    print("told:", type(e).__name__, e)
print(f.voidcmd("NOOP"))
`

// An upload that is refused in the middle, since the quota is full, ends with the 552 that the
// client's user sees, and not with a connection that is reset.
func TestARefusalInTheMiddleReachesTheUser(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-quota-bytes", "1MiB")
	big, _ := testkit.File(t, 24<<20)
	for n := range 3 {
		out, err := k.Curl("ann", "ftps", fmt.Sprint("/c", n), "-T", big)
		assert.Error(t, err)
		assert.Contains(t, out, "Exceeded storage allocation", "what curl says for a 552")
		out, err = k.LFTP("ann", "ftps", fmt.Sprint("put ", big, " -o l", n))
		assert.Error(t, err)
		assert.Contains(t, out, "552", "lftp")
		host, port, _ := net.SplitHostPort(k.Address("ftp"))
		out, err = testkit.Run(t, pythonUpload, "/usr/bin/python3", "-", host, port, "ann", testkit.Password, fmt.Sprint("p", n), big)
		require.NoError(t, err, out)
		assert.Contains(t, out, "told: error_perm 552", "ftplib")
		assert.Contains(t, out, "200", "the session goes on")
	}
}

// A client that opens the data connection before it has read the reply finds the refusal,
// and its connection closed and not reset.
func TestAnEagerClientReadsTheRefusal(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=full", "-grant", "/secret=none")
	for _, command := range []string{"LIST /secret", "NLST /none", "MLSD /none", "RETR /none", "STOR /secret/x"} {
		c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
		said := c.Say("EPSV", 229)
		port := strings.Trim(said[strings.Index(said, "(|||"):], "(|).")
		host, _, _ := net.SplitHostPort(k.Address("ftps"))
		eager, err := net.Dial("tcp", net.JoinHostPort(host, port))
		require.NoError(t, err)
		_, err = eager.Write([]byte("some bytes that nobody reads"))
		require.NoError(t, err)
		c.Say(command, 550)
		rest := make([]byte, 10)
		n, err := eager.Read(rest)
		assert.Zero(t, n)
		assert.ErrorContains(t, err, "EOF", "%s: the connection is closed and not reset", command)
		eager.Close()
		c.Say("NOOP", 200)
	}
}

// Who may only drop files may look at what it has just made, as many clients do after an
// upload; at nothing else, and not once another file is there.
func TestADropperSeesWhatItHasJustMade(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=drop-only")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "other"), []byte("x"), 0o640))
	r := sftptalk.Dial(t, k, "ann")
	handle := r.Open("/mine", sftptalk.FxfWrite|sftptalk.FxfCreat)
	require.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpClose, handle))
	look := func(name string) byte { kind, _ := r.Ask(sftptalk.FxpStat, sftptalk.Str(name)); return kind }
	assert.EqualValues(t, sftptalk.FxpAttrs, look("/mine"))
	assert.EqualValues(t, sftptalk.FxpStatus, look("/other"))
	got, _ := r.Ask(sftptalk.FxpOpen, sftptalk.Str("/mine"), sftptalk.U32(sftptalk.FxfRead), sftptalk.NoAttrs())
	assert.EqualValues(t, sftptalk.FxpStatus, got, "it can't be read")
	require.NoError(t, os.Rename(filepath.Join(k.Home("ann"), "other"), filepath.Join(k.Home("ann"), "mine")))
	assert.EqualValues(t, sftptalk.FxpStatus, look("/mine"))
}

// A library that sends a link's own path first, to all who don't call themselves OpenSSH, is
// known by its version.
func TestALinkIsMadeWhereTheClientMeansIt(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	for version, order := range map[string][2]string{"SSH-2.0-ssh2js1.16.0": {"/own-first", "target"}, "SSH-2.0-OpenSSH_9.2": {"target", "/target-first"}} {
		client, err := ssh.Dial("tcp", k.Address("sftp"), &ssh.ClientConfig{User: "ann", Auth: []ssh.AuthMethod{ssh.Password(testkit.Password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), ClientVersion: version})
		require.NoError(t, err)
		r := sftptalk.Channel(t, client)
		r.Send(sftptalk.FxpInit, sftptalk.U32(3))
		r.Receive()
		assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSymlink, sftptalk.Str(order[0]), sftptalk.Str(order[1])), version)
		client.Close()
	}
	for _, name := range []string{"own-first", "target-first"} {
		target, err := os.Readlink(filepath.Join(k.Home("ann"), name))
		require.NoError(t, err)
		assert.Equal(t, "target", target)
	}
}
