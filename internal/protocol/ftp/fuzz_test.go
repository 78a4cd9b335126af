package ftp

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// open is a house in which everybody may do everything and nobody watches.
type open struct{ dir string }

func (o open) Announce(keep.AuditRecord, string) (func(keep.AuditRecord) error, error) {
	return o.Record, nil
}
func (o open) Hold(keep.AuditRecord) (func(keep.AuditRecord) error, error)   { return o.Record, nil }
func (open) Record(keep.AuditRecord) error                                   { return nil }
func (open) Note(keep.AuditRecord)                                           {}
func (open) Doing(keep.Action, string)                                       {}
func (o open) Room() error                                                   { return nil }
func (o open) Begin(tree.Transfer) tree.Meter                                { return o }
func (open) Reserve(n int64, _ bool) (int64, error)                          { return n, nil }
func (open) Release(int64)                                                   {}
func (open) Moved(int)                                                       {}
func (open) Chunk() int                                                      { return 0 }
func (open) Pace(int)                                                        {}
func (open) End(keep.Outcome, keep.Reason)                                   {}
func (open) Secured(string)                                                  {}
func (open) Named(string)                                                    {}
func (open) SignOut(*keep.Fault)                                             {}
func (open) MustProtect() bool                                               { return false }
func (open) MayBePlain(context.Context, string, bool) bool                   { return true }
func (open) Offer(context.Context, string, ssh.PublicKey) bool               { return false }
func (o open) Arrive(net.Addr, keep.Protocol, bool, func(*keep.Fault)) Visit { return o }
func (open) KeyProved(context.Context, string, ssh.PublicKey) (*tree.Tree, error) {
	return nil, keep.Refuse(keep.BadCredentials, "no")
}
func (o open) SignIn(context.Context, string, keep.Secret) (*tree.Tree, error) {
	a := &keep.Account{Name: "ann", State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "jail"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}}
	e, err := keep.Resolve(a, nil)
	if err != nil {
		return nil, err
	}
	return tree.Open(tree.Who{Account: "ann"}, e, tree.House{Stores: []keep.Store{{Name: "files", Folder: o.dir}}, Ledger: quota.Unlimited(), Trail: o}, o)
}

// prison makes a house whose one account has a jail with two files, beside a secret.
func prison(t testing.TB) open {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "jail", "d"), 0o750))
	for _, name := range []string{"secret", "jail/f", "jail/d/g"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o640))
	}
	return open{dir}
}

// wire is a connection whose client has sent all it will and takes what comes.
type scripted struct {
	net.Conn
	in  io.Reader
	out bytes.Buffer
}

func (s *scripted) Read(p []byte) (int, error)       { return s.in.Read(p) }
func (s *scripted) Write(p []byte) (int, error)      { return s.out.Write(p) }
func (s *scripted) Close() error                     { return nil }
func (s *scripted) SetReadDeadline(time.Time) error  { return nil }
func (s *scripted) SetWriteDeadline(time.Time) error { return nil }
func (s *scripted) LocalAddr() net.Addr              { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 21} }
func (s *scripted) RemoteAddr() net.Addr {
	return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 50000}
}

// scriptedConn is a signed-in connection on which a client says something.
func scriptedConn(t testing.TB, house open, in string) (*conn, *scripted) {
	l := keep.Listener{Protocol: keep.FTP, Encryption: keep.EncryptionOptional, PassiveLow: 1, PassiveHigh: 1}
	s := &Server{Listener: l, Keeper: house, Log: slog.New(slog.DiscardHandler),
		Timeouts: Timeouts{SignIn: time.Minute, Idle: time.Minute, Connect: time.Millisecond, Stall: time.Second, Reply: time.Second}}
	s.Configure(l)
	raw := &scripted{in: strings.NewReader(in)}
	c := newConn(s, raw, context.Background())
	c.signedIn = func() {}
	opened, err := house.SignIn(context.Background(), "ann", "")
	require.NoError(t, err)
	c.tree = opened
	return c, raw
}

var replyLine = regexp.MustCompile(`^([1-5]\d\d[ -]| )`)

// FuzzConversation lets a client say anything. Each line of the answer is part of a
// reply, the conversation ends, and nothing outside the jail is touched.
func FuzzConversation(f *testing.F) {
	for _, talk := range []string{
		"PWD\r\nCWD d\r\nCDUP\r\nMKD x\r\nRMD x\r\nQUIT\r\n", "RNFR f\r\nRNTO ../../secret\r\nDELE ../secret\r\n", "SIZE f\r\nTYPE I\r\nSIZE f\r\nREST 3\r\nRANG 1 2\r\nHASH f\r\n",
		"PASV\r\nRETR f\r\nPORT 127,0,0,1,200,1\r\nSTOR f\r\nABOR\r\n", "MLST f\r\nOPTS MLST size;\r\nMLST d\r\nSTAT d/*\r\nFEAT\r\n", "SITE CHMOD 777 f\r\nMFMT 20200101000000 f\r\nMFF modify=1;x=2; f\r\n",
		"\xff\xf4\xff\xf2ABOR\r\n", "USER a\r\nPASS b\r\nREIN\r\nUSER a\r\nPASS b\r\nSTAT\r\n", "ALLO  \r\nREST 99999999999999999999\r\nRANG 9223372036854775807 9223372036854775807\r\nHASH f\r\n",
	} {
		f.Add(talk)
	}
	f.Fuzz(func(t *testing.T, in string) {
		house := prison(t)
		c, raw := scriptedConn(t, house, in)
		c.run()
		c.end()
		for line := range strings.SplitSeq(strings.TrimSuffix(raw.out.String(), "\r\n"), "\r\n") {
			require.Regexp(t, replyLine, line)
		}
		kept, err := os.ReadFile(filepath.Join(house.dir, "secret"))
		require.NoError(t, err)
		require.Equal(t, "secret", string(kept))
		entries, err := os.ReadDir(house.dir)
		require.NoError(t, err)
		require.Len(t, entries, 2, "something was made outside the jail")
	})
}

// FuzzListArgument lets a client name anything to be listed: what is found lies in
// the tree.
func FuzzListArgument(f *testing.F) {
	for _, arg := range []string{"", "-la", "*", "d/*", "d/[fg]", "[", "../*", "-a -l d", "d/../*", "\\*", "**", "?", "/d/g"} {
		f.Add(arg)
	}
	house := prison(f)
	c, _ := scriptedConn(f, house, "")
	f.Fuzz(func(t *testing.T, arg string) {
		found, err := c.entries(arg)
		if err != nil {
			return
		}
		require.NoError(t, found.each(func(e entry) {
			clean, err := keep.CleanPath("/", e.at)
			require.NoError(t, err)
			require.Equal(t, clean, e.at)
			require.FileExists(t, filepath.Join(house.dir, "jail", "f"))
			_, err = os.Lstat(filepath.Join(house.dir, "jail", filepath.FromSlash(e.at)))
			require.NoError(t, err, "%q lists %q", arg, e.at)
		}))
	})
}

// FuzzActive lets a client name any place to be called: it is itself, and no low port.
func FuzzActive(f *testing.F) {
	for _, arg := range []string{"127,0,0,1,200,1", "|1|127.0.0.1|5000|", "|2|::1|5000|", "|1|0.0.0.0|5000|", "256,0,0,1,1,1", "|1|127.0.0.1|22|", "1,2", "", "||||", "|2|::ffff:127.0.0.1|5000|"} {
		f.Add(arg)
	}
	house := prison(f)
	f.Fuzz(func(t *testing.T, arg string) {
		for _, command := range []func(*conn, string) error{(*conn).cmdPort, (*conn).cmdEprt} {
			c, _ := scriptedConn(t, house, "")
			err := command(c, arg)
			c.tree.Close()
			c.cancel()
			if err != nil {
				require.Empty(t, c.data.active)
				continue
			}
			to, err := netip.ParseAddrPort(c.data.active)
			require.NoError(t, err)
			require.Equal(t, "127.0.0.1", to.Addr().String())
			require.GreaterOrEqual(t, to.Port(), uint16(1024))
		}
	})
}

// Behind a router a client outside is told the address outside, one inside is not.
func TestTheAdvertisedAddressIsForThoseOutside(t *testing.T) {
	c, _ := scriptedConn(t, prison(t), "")
	defer c.tree.Close()
	local := netip.MustParseAddr("192.168.1.20")
	for _, row := range []struct{ advertise, peer, want string }{
		{"", "203.0.113.9", "192.168.1.20"}, {"198.51.100.7", "203.0.113.9", "198.51.100.7"}, {"198.51.100.7", "192.168.1.30", "192.168.1.20"},
		{"198.51.100.7", "10.1.2.3", "192.168.1.20"}, {"198.51.100.7", "127.0.0.1", "192.168.1.20"}, {"localhost", "203.0.113.9", "127.0.0.1"},
	} {
		c.listener.Advertise = row.advertise
		c.raw = peerAt{c.raw, row.peer}
		told, err := c.advertised(local)
		require.NoError(t, err)
		require.Equal(t, row.want, told.String(), "%+v", row)
	}
	c.listener.Advertise = "no-such-name.invalid"
	c.raw = peerAt{c.raw, "203.0.113.9"}
	_, err := c.advertised(local)
	require.ErrorContains(t, err, "can't be found at the moment")
}

type peerAt struct {
	net.Conn
	address string
}

func (p peerAt) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.ParseIP(p.address), Port: 50000} }
