package listeners_test

import (
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

	"urbankeep/internal/api"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
)

func TestListenersChangeWhileSessionsGoOn(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	ports := testkit.FreePorts(t)
	passive := fmt.Sprintf("%d-%d", ports, ports+5)
	address := testkit.FreeAddress(t)
	k.Must(nil, "listener", "add", "outer", "ftps", address, "-passive", passive, "-banner", "Port Selwyn", "-welcome", "Good tide, {account}")
	c := ftptalk.As(t, address, "ann", testkit.Password)
	c.Say("PWD", 257)

	moved := testkit.FreeAddress(t)
	k.Must(nil, "listener", "set", "outer", "-address", moved)
	c.Say("PWD", 257)
	_, err := net.Dial("tcp", address)
	assert.Error(t, err, "nobody listens at the old address")
	ftptalk.As(t, moved, "ann", testkit.Password).Say("NOOP", 200)

	_, port, _ := net.SplitHostPort(moved) // the same port on every address: its own old socket is in the way
	k.Must(nil, "listener", "set", "outer", "-address", ":"+port)
	ftptalk.As(t, moved, "ann", testkit.Password).Say("NOOP", 200)

	k.Must(nil, "listener", "stop", "outer")
	_, err = net.Dial("tcp", moved)
	assert.Error(t, err)
	c.Say("PWD", 257)
	k.Must(nil, "listener", "start", "outer")
	d := ftptalk.Dial(t, moved)
	d.Say("USER ann", 331)
	assert.Equal(t, "Good tide, ann\nsigned in as ann", d.Say("PASS "+testkit.Password, 230))
	k.Must(nil, "listener", "remove", "outer")
	k.Must(nil, "listener", "remove", "ftp")
	c.Say("PWD", 257)
	data := c.Passive()
	c.Say("LIST", 150)
	data.Handshake()
	c.Expect(226)
	assert.Contains(t, k.Refused("listener", "stop", "outer"), "no such listener")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "listener-add,listener-set,listener-remove")
	assert.Len(t, trail, 7)
	dir := k.Dir
	k.Halt(5 * time.Second)
	again := testkit.StartOn(t, dir, "127.0.0.1", func(o *service.Options) { o.FTP, o.FTPS, o.SFTP = "", "", "" })
	var left []api.Listener
	again.Must(&left, "listener", "list")
	require.Len(t, left, 3, "what was removed stays removed")
	assert.Equal(t, []string{"ftps", "sftp", "web"}, []string{left[0].Name, left[1].Name, left[2].Name})
}

func TestADownloadRunsThroughChangesAndTheNextSessionSeesThem(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	_, content := testkit.File(t, 30_000_000)
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "f"), content, 0o640))
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	d := c.Passive()
	c.Say("RETR f", 150)
	first := make([]byte, 100_000)
	_, err := io.ReadFull(d, first)
	require.NoError(t, err)
	file, key := testkit.NewCertificate(t, t.TempDir(), "next.example")
	k.Must(nil, "certificate", "import", file, key)
	k.Must(nil, "listener", "set", "ftps", "-banner", "changed", "-advertise", "198.51.100.7")
	ports := testkit.FreePorts(t)
	k.Must(nil, "listener", "set", "ftps", "-passive", fmt.Sprintf("%d-%d", ports, ports+5))
	rest, err := io.ReadAll(d)
	require.NoError(t, err)
	assert.Equal(t, content, append(first, rest...))
	c.Expect(226)
	conn, err := tls.Dial("tcp", k.Address("ftps"), ftptalk.AnyCertificate)
	require.NoError(t, err)
	defer conn.Close()
	greeting := make([]byte, 11)
	_, err = io.ReadFull(conn, greeting)
	require.NoError(t, err)
	assert.Equal(t, "220 changed", string(greeting))
	assert.Equal(t, "next.example", shown(t, k.Address("ftps")))
}

func TestABadListenerIsRefusedWithAdviceAndNothingChanges(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	var all []api.Listener
	k.Must(&all, "listener", "list")
	require.Len(t, all, 4)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	ports := testkit.FreePorts(t)
	free := fmt.Sprintf("%d-%d", ports, ports+5)
	overlap := fmt.Sprintf("%d-%d", all[0].PassiveHigh, all[0].PassiveHigh)
	for _, c := range []struct {
		say  string
		args []string
	}{
		{"address already in use", []string{"add", "x", "sftp", taken.Addr().String()}},
		{"address already in use", []string{"set", "sftp", "-address", taken.Addr().String()}},
		{"leave the host out", []string{"add", "x", "sftp", "192.0.2.77:2022"}},
		{"is no address with a port", []string{"add", "x", "sftp", "2022"}},
		{"is no address of this machine", []string{"add", "x", "sftp", "keep.example:2022"}},
		{"use ftp, ftps, sftp or web", []string{"add", "x", "gopher", "127.0.0.1:0"}},
		{"the name is taken", []string{"add", "ftp", "sftp", "127.0.0.1:0"}},
		{"is no range of ports", []string{"add", "x", "ftp", "127.0.0.1:0"}},
		{"overlap with those of the listener ftp", []string{"add", "x", "ftp", "127.0.0.1:0", "-passive", overlap}},
		{"is one of the passive ports of the listener ftp", []string{"add", "x", "sftp", fmt.Sprint("127.0.0.1:", all[0].PassiveLow)}},
		{"use required, optional or off", []string{"add", "x", "ftp", "127.0.0.1:0", "-passive", free, "-encryption", "some"}},
		{"encrypted always", []string{"add", "x", "ftps", "127.0.0.1:0", "-passive", free, "-encryption", "off"}},
		{"turn those off too", []string{"add", "x", "ftp", "127.0.0.1:0", "-passive", free, "-encryption", "off", "-resume-data"}},
		{"is neither an IPv4 address nor a host name", []string{"set", "ftp", "-advertise", "2001:db8::7"}},
		{"no address or network", []string{"set", "ftp", "-allow", "everyone"}}, {"lets nobody in", []string{"set", "ftp", "-allow", "nobody"}},
		{"one connection for everything", []string{"set", "sftp", "-advertise", "192.0.2.7"}},
	} {
		assert.Contains(t, k.Refused(append([]string{"listener"}, c.args...)...), c.say, c.args)
	}
	var after []api.Listener
	k.Must(&after, "listener", "list")
	assert.Equal(t, all, after)
	ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password).Say("NOOP", 200)
	if os.Getuid() != 0 {
		assert.Contains(t, k.Refused("listener", "add", "low", "sftp", "127.0.0.1:22"), "CAP_NET_BIND_SERVICE")
	}
}

func TestNetworkRulesDecideWhoMayConnect(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	key := k.Key("ann")
	in := func() bool {
		_, err := k.Curl("ann", "ftps", "/")
		_, serr := k.SFTP("ann", key, "ls")
		assert.Equal(t, err == nil, serr == nil)
		return err == nil
	}
	rule := func(args ...string) {
		for _, l := range []string{"ftps", "sftp"} {
			k.Must(nil, append([]string{"listener", "set", l}, args...)...)
		}
	}
	assert.True(t, in())
	rule("-allow", "192.0.2.0/24")
	assert.False(t, in())
	rule("-allow", "192.0.2.0/24,127.0.0.1")
	assert.True(t, in())
	rule("-deny", "127.0.0.0/8")
	assert.False(t, in())
	rule("-deny", "")
	assert.True(t, in())
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "connect")
	require.NotEmpty(t, trail)
	assert.EqualValues(t, "turned-away", trail[0].Reason)
	assert.Contains(t, trail[0].Detail, "network rules of the listener")
}

func TestUsedUpPassivePortsAreSaidAndCounted(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	port := testkit.FreePorts(t)
	k.Must(nil, "listener", "set", "ftps", "-passive", fmt.Sprintf("%d-%d", port, port))
	first, second := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password), ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	first.Passive()
	assert.Contains(t, second.Say("EPSV", 425), "all passive ports are in use")
	var all []api.Listener
	k.Must(&all, "listener", "list")
	assert.Equal(t, 1, all[1].PassiveTaken)
	assert.Equal(t, 1, all[1].PassiveRefused)
	assert.Contains(t, k.Must(nil, "listener", "list"), "used up 1 time")
	first.Say("ABOR", 226)
	second.Passive()
	k.Must(nil, "listener", "set", "ftps", "-active=false")
	assert.Contains(t, ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password).Say("PORT 127,0,0,1,200,1", 502), "use PASV or EPSV")
}

// shown is the certificate that a listener shows.
func shown(t *testing.T, address string) string {
	conn, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0].Subject.CommonName
}

func TestACertificateIsFollowedWhileSessionsGoOn(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	dir := t.TempDir()
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	file, key := testkit.NewCertificate(t, dir, "one.example")
	out := k.Must(nil, "certificate", "follow", file, key)
	assert.Contains(t, out, "one.example")
	assert.Equal(t, "one.example", shown(t, k.Address("ftps")))
	testkit.NewCertificate(t, dir, "two.example") // as a program that renews does
	require.Eventually(t, func() bool { return shown(t, k.Address("ftps")) == "two.example" }, testkit.Patience, 100*time.Millisecond)
	require.NoError(t, os.WriteFile(file, []byte("broken"), 0o600))
	require.Eventually(t, func() bool { return strings.Contains(k.Must(nil, "certificate", "show"), "can't be used") }, testkit.Patience, 100*time.Millisecond)
	assert.Equal(t, "two.example", shown(t, k.Address("ftps")), "the last good one is shown")
	c.Say("NOOP", 200)
	other, otherKey := testkit.NewCertificate(t, t.TempDir(), "three.example")
	assert.Contains(t, k.Refused("certificate", "import", other, key), "private key does not match")
	assert.Contains(t, k.Refused("certificate", "follow", other+".none", otherKey), "they must be plain files")
	k.Must(nil, "certificate", "import", other, otherKey)
	require.NoError(t, os.Remove(other))
	assert.Equal(t, "three.example", shown(t, k.Address("ftps")))
	dirBefore := k.Dir
	k.Halt(5 * time.Second)
	again := testkit.StartIn(t, dirBefore)
	assert.Equal(t, "three.example", shown(t, again.Address("ftps")))
	again.Must(nil, "certificate", "renew")
	assert.Contains(t, shown(t, again.Address("ftps")), "Urban Keep on")
}

func TestAClientCertificateSignsInAsAKeyDoes(t *testing.T) {
	k := testkit.Start(t)
	for _, policy := range []string{"either", "key", "both", "password"} {
		k.Account(policy, "-sign-in-by", policy)
	}
	file, key := testkit.NewCertificate(t, t.TempDir(), "gauge")
	for _, policy := range []string{"either", "key", "both", "password"} {
		k.Must(nil, "key", "add", policy, file, "-shared")
	}
	stranger, strangerKey := testkit.NewCertificate(t, t.TempDir(), "stranger")
	in := func(account, password, certificate, key string) bool {
		out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", account+":"+password, "--cert", certificate, "--key", key, "ftps://"+k.Address("ftps")+"/")
		return err == nil && out == ""
	}
	assert.False(t, in("key", "x", file, key), "the listener has not asked for one")
	k.Must(nil, "listener", "set", "ftps", "-client-certificates", "-resume-data")
	for _, c := range []struct {
		account, password string
		mine              bool
		in                bool
	}{
		{"either", "x", true, true}, {"either", "x", false, false}, {"either", testkit.Password, false, true},
		{"key", "x", true, true}, {"key", testkit.Password, false, false},
		{"both", testkit.Password, true, true}, {"both", "x", true, false}, {"both", testkit.Password, false, false},
		{"password", "x", true, false}, {"password", testkit.Password, true, true},
	} {
		certificate, private := stranger, strangerKey
		if c.mine {
			certificate, private = file, key
		}
		assert.Equal(t, c.in, in(c.account, c.password, certificate, private), "%+v", c)
	}
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "both", "-action", "sign-in", "-outcome", "done")
	require.Len(t, trail, 1)
	assert.Equal(t, "key and password", trail[0].Detail)
}
