package clients_test

import (
	"bufio"
	"crypto/tls"
	"fmt"
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

	"urbankeep/tests/testkit"
)

func TestMirrorsGoUpAndDownAndOnAgainInEveryMode(t *testing.T) {
	for _, host := range []string{"127.0.0.1", "[::1]"} {
		k := testkit.StartOn(t, testkit.Folder(t), host)
		for _, tls := range []string{"plain", "explicit", "implicit"} {
			for _, passive := range []string{"on", "off"} {
				t.Run(host+" "+tls+" passive "+passive, func(t *testing.T) {
					account := "ann-" + tls + "-" + passive
					k.Account(account, map[bool]string{true: "-encryption=optional", false: "-encryption=listener"}[tls == "plain"])
					listener := map[string]string{"plain": "ftp", "explicit": "ftp", "implicit": "ftps"}[tls]
					from, back := testkit.Survey(t), t.TempDir()
					head := []string{"set ftp:passive-mode " + passive}
					if tls == "plain" {
						head = append(head, "set ftp:ssl-force no", "set ftp:ssl-allow no")
					}
					run := func(lines ...string) {
						t.Helper()
						out, err := k.LFTP(account, listener, append(head, lines...)...)
						require.NoError(t, err, out)
					}
					run("mirror -R "+from+" survey", "mirror survey "+back)
					diff, err := testkit.Run(t, "", "diff", "-r", from, back)
					require.NoError(t, err, diff)
					// What broke off goes on where it was.
					name := filepath.Join("day 2", "scan-11 é.las")
					require.NoError(t, os.Truncate(filepath.Join(k.Home(account), "survey", name), 100_000))
					require.NoError(t, os.Truncate(filepath.Join(back, name), 50_000))
					run("put -c '"+filepath.Join(from, name)+"' -o 'survey/"+name+"'", "get -c 'survey/"+name+"' -o '"+filepath.Join(back, name)+"'")
					diff, err = testkit.Run(t, "", "diff", "-r", from, back)
					require.NoError(t, err, diff)
					found := k.Transfers("-account", account, "-path", "/survey/"+name)
					require.NotEmpty(t, found)
					assert.EqualValues(t, 50_000, found[0].Offset)
					assert.Equal(t, tls != "plain", found[0].Encrypted)
				})
			}
		}
	}
}

// The oldest kind of client, as instruments have it built in: plain, with commands
// typed one by one.
func TestAPlainCommandLineClient(t *testing.T) {
	for _, host := range []string{"127.0.0.1", "[::1]"} {
		k := testkit.StartOn(t, testkit.Folder(t), host)
		k.Account("gauge", "-encryption=optional")
		file, content := testkit.File(t, 70_000)
		back := filepath.Join(t.TempDir(), "back")
		require.NoError(t, os.WriteFile(back+".part", content[:30_000], 0o600))
		address, port, _ := net.SplitHostPort(k.Address("ftp"))
		for _, passive := range []string{"-p", "-A"} {
			script := strings.Join([]string{"user gauge \"" + testkit.Password + "\"", "binary", "mkdir in" + passive, "cd in" + passive, "put " + file + " f", "ls", "nlist",
				"modtime f", "get f " + back, "append " + file + " f", "rename f g", "reget g " + back + ".part", "ascii", "put " + file + ".txt t", "get t " + back + ".txt", "rhelp", "rhelp STOR",
				"pwd", "cdup", "delete in" + passive + "/g", "site chmod 600 in" + passive + "/t", "bye"}, "\n") + "\n"
			require.NoError(t, os.WriteFile(file+".txt", []byte("one\ntwo\n"), 0o600))
			out, err := testkit.Run(t, script, "tnftp", "-n", "-v", passive, address, port)
			require.NoError(t, err, out)
			assert.Equal(t, content, testkit.OnDisk(t, back), out)
			assert.Equal(t, "one\ntwo\n", string(testkit.OnDisk(t, filepath.Join(k.Home("gauge"), "in"+passive, "t"))), out)
			assert.Equal(t, "one\ntwo\n", string(testkit.OnDisk(t, back+".txt")), out)
			assert.NoFileExists(t, filepath.Join(k.Home("gauge"), "in"+passive, "g"))
			for _, code := range []string{"\n5", "\n421"} {
				assert.NotContains(t, strings.ReplaceAll(out, "\n530 this service", ""), code, out)
			}
		}
	}
}

func TestPartsTextAndHashesWithCurl(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	file, content := testkit.File(t, 300_000)
	for _, version := range []string{"1.2", "1.3"} {
		for _, listener := range []string{"ftp", "ftps"} {
			curl := func(path string, args ...string) string {
				out, err := k.Curl("ann", listener, path, append(args, "--tlsv"+version, "--tls-max", version)...)
				require.NoError(t, err, out)
				return out
			}
			curl("/f", "-T", file)
			assert.Equal(t, string(content[1000:2001]), curl("/f", "-r", "1000-2000"))
			assert.Equal(t, string(content[299_000:]), curl("/f", "-r", "299000-"))
			require.NoError(t, os.Truncate(filepath.Join(k.Home("ann"), "f"), 123_456))
			curl("/f", "-C", "-", "-T", file)
			assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "f")))
			curl("/log", "-a", "-T", file)
			curl("/log", "-a", "-T", file)
			assert.Len(t, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "log")), 600_000)
			require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "t"), []byte("a\nb\n"), 0o640))
			assert.Equal(t, "a\nb\n", strings.ReplaceAll(curl("/t", "--use-ascii"), "\r", ""))
			assert.Contains(t, curl("/", "-Q", "HASH f", "-v", "-l"), "213 SHA-256 0-300000 ")
			curl("/", "-Q", "-DELE log", "-Q", "-RNFR t", "-Q", "-RNTO u")
			assert.FileExists(t, filepath.Join(k.Home("ann"), "u"))
			require.NoError(t, os.Remove(filepath.Join(k.Home("ann"), "u")))
		}
	}
}

func TestDataConnectionsMayHaveToResumeTheirSession(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Must(nil, "listener", "set", "ftp", "-resume-data")
	k.Must(nil, "listener", "set", "ftps", "-resume-data")
	file, content := testkit.File(t, 200_000)
	for _, listener := range []string{"ftp", "ftps"} {
		// Debian's curl takes no session tickets of TLS 1.2, so that it resumes with TLS 1.3 only.
		out, err := k.Curl("ann", listener, "/f", "-T", file, "--tlsv1.3")
		require.NoError(t, err, out)
		assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "f")))
		_, err = k.Curl("ann", listener, "/f", "--tls-max", "1.2")
		assert.Error(t, err)
		out, err = k.LFTP("ann", listener, "put "+file+" -o g", "get g -o "+filepath.Join(t.TempDir(), "back"))
		require.NoError(t, err, out)
	}
	// Another connection's session will not do, though it is of the same service.
	c, other := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password), ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	other.Say("NOOP", 200)
	c.TLS = other.TLS
	d := c.Passive()
	_, err := fmt.Fprint(c.Conn, "RETR f\r\n")
	require.NoError(t, err)
	c.Expect(150)
	d.Handshake()
	assert.Contains(t, c.Expect(425), "must resume that of the command connection")
}

// An account that is encrypted always sends no data in clear on a listener that would let it, and a session in clear ends when it
// becomes one.
func TestAnAccountThatMustBeEncryptedSendsNoDataInClear(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "listener", "set", "ftp", "-encryption", "optional")
	k.Account("gauge", "-encryption=required")
	k.Account("quay", "-encryption=listener")
	for account, refused := range map[string][2]string{"gauge": {"522", "534"}, "quay": {"227", "200"}} {
		raw, err := net.Dial("tcp", k.Address("ftp"))
		require.NoError(t, err)
		defer raw.Close()
		raw.SetDeadline(time.Now().Add(testkit.Patience))
		conn, said := raw, []string{}
		for _, line := range []string{"", "AUTH TLS", "USER " + account, "PASS " + testkit.Password, "PASV", "LIST", "PROT C"} {
			if line == "LIST" && account == "quay" {
				continue // nobody comes for it
			}
			if line != "" {
				fmt.Fprint(conn, line+"\r\n")
			}
			reply := ""
			for in := bufio.NewReader(conn); len(reply) < 4 || reply[3] != ' '; {
				reply, err = in.ReadString('\n')
				require.NoError(t, err)
			}
			if said = append(said, reply[:3]); line == "AUTH TLS" {
				conn = tls.Client(raw, &tls.Config{InsecureSkipVerify: true})
			}
		}
		assert.Equal(t, refused[:], said[len(said)-2:], account)
	}
	conn, err := net.Dial("tcp", k.Address("ftp"))
	require.NoError(t, err)
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(testkit.Patience))
	in := bufio.NewReader(conn)
	for _, line := range []string{"", "USER quay", "PASS " + testkit.Password, "PORT 0,0,0,0,200,10"} {
		if line != "" {
			fmt.Fprint(conn, line+"\r\n")
		}
		for {
			reply, err := in.ReadString('\n')
			require.NoError(t, err)
			if len(reply) > 3 && reply[3] == ' ' {
				assert.Equal(t, strings.HasPrefix(line, "PORT"), strings.HasPrefix(reply, "504"), reply)
				break
			}
		}
	}
	k.Must(nil, "account", "set", "quay", "-encryption=required")
	rest, _ := io.ReadAll(in)
	assert.Contains(t, string(rest), "without TLS")
}
