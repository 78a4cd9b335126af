package clients_test

import (
	"fmt"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
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
		out, err = testkit.Run(t, pythonUpload, "python3", "-", host, port, "ann", testkit.Password, fmt.Sprint("p", n), big)
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
