package checkup

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// speaks listens on an address and says one line to each who connects.
func speaks(t *testing.T, at, line string) (address string, port int) {
	l, err := net.Listen("tcp", at)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(conn, line)
			conn.Close()
		}
	}()
	return l.Addr().String(), l.Addr().(*net.TCPAddr).Port
}

func post(protocol keep.Protocol, at string) Post {
	return Post{Listener: keep.Listener{Name: string(protocol), Protocol: protocol, Address: at, PassiveLow: 1, PassiveHigh: 2}, At: at, Admits: func(string) bool { return true }}
}

// says asserts that a line of a state is there that holds a text, and says what to do.
func says(t *testing.T, f Findings, state State, check, text string) {
	t.Helper()
	for _, one := range f {
		if one.State == state && one.Check == check && strings.Contains(one.Says, text) {
			if state == Warning || state == Fault {
				assert.NotEmpty(t, one.Do, "%+v", one)
			}
			return
		}
	}
	assert.Fail(t, "not found", "%s of %s with %q in %+v", state, check, text, f)
}

func TestAListenerThatDoesNotAnswerIsFound(t *testing.T) {
	good, _ := speaks(t, "127.0.0.1:0", "220 Urban Keep\r\n")
	other, _ := speaks(t, "127.0.0.1:0", "HTTP/1.1 400 Bad Request\r\n")
	silent, _ := speaks(t, "127.0.0.1:0", "")
	gone, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := gone.Addr().String()
	gone.Close()

	f := Listeners(t.Context(), []Post{post(keep.FTP, good)}, "", true)
	assert.Equal(t, Note, f.Worst(), "%+v", f)
	says(t, f, Fine, "listener", "it answers")
	f = Listeners(t.Context(), []Post{post(keep.FTP, other)}, "", true)
	says(t, f, Fault, "listener", "something else answers there")
	assert.NotContains(t, fmt.Sprint(f), "400 Bad", "what answers is not repeated")
	says(t, Listeners(t.Context(), []Post{post(keep.FTP, silent)}, "", true), Fault, "listener", "says nothing")
	says(t, Listeners(t.Context(), []Post{post(keep.FTPS, good)}, "", true), Fault, "listener", "no TLS")
	says(t, Listeners(t.Context(), []Post{post(keep.SFTP, nobody)}, "", true), Fault, "listener", "connection refused")
	says(t, Listeners(t.Context(), []Post{post(keep.SFTP, "")}, "", true), Fault, "listener", "does not listen")
	says(t, Listeners(t.Context(), nil, "", true), Fault, "listener", "nobody can connect")
	stopped := post(keep.FTP, "")
	stopped.Stopped = true
	says(t, Listeners(t.Context(), []Post{stopped}, "", true), Note, "listener", "stopped")
	shut := post(keep.FTP, good)
	shut.Admits = func(string) bool { return false }
	says(t, Listeners(t.Context(), []Post{shut}, "", true), Note, "listener", "not tried")
}

func TestTheAddressThatClientsUseIsTried(t *testing.T) {
	_, port := speaks(t, ":0", "220 Urban Keep\r\n")
	p := post(keep.FTP, fmt.Sprintf("[::]:%d", port))
	says(t, Listeners(t.Context(), []Post{p}, "localhost", true), Fine, "outside", "it answers on localhost")
	says(t, Listeners(t.Context(), []Post{p}, "", true), Warning, "host", "nobody said")
	f := Listeners(t.Context(), []Post{p}, "files.portselwyn.invalid", true)
	says(t, f, Warning, "outside", "nothing answers")
	says(t, f, Fault, "host", "is no address")
	f = Listeners(t.Context(), []Post{p}, "192.0.2.1", false)
	says(t, f, Note, "outside", "was not tried")
	says(t, Listeners(t.Context(), []Post{p}, "localhost", false), Fine, "outside", "it answers on localhost")
	f = Listeners(t.Context(), []Post{p}, "127.0.0.7", true) // as a router that forwards nothing
	if f.Worst() == Warning {
		says(t, f, Warning, "outside", "nothing answers")
	}
}

func TestPassivePortsAreTried(t *testing.T) {
	_, port := speaks(t, ":0", "220 x\r\n")
	_, taken := speaks(t, ":0", "")
	p := post(keep.FTP, fmt.Sprintf("[::]:%d", port))
	p.PassiveLow, p.PassiveHigh = taken, taken+1
	says(t, Passive(t.Context(), []Post{p}, "localhost", true), Warning, "passive", fmt.Sprintf("others hold %d", taken))
	p.Taken, p.Refused = 2, 3
	says(t, Passive(t.Context(), []Post{p}, "localhost", true), Warning, "passive", "3 times since its start")
	p.Refused, p.PassiveLow, p.PassiveHigh = 0, 61100, 61110
	says(t, Passive(t.Context(), []Post{p}, "localhost", true), Fine, "passive", "comes through")
	says(t, Passive(t.Context(), []Post{p}, "192.0.2.1", true), Warning, "passive", "is no address of this machine")
	p.Advertise = "127.0.0.1"
	says(t, Passive(t.Context(), []Post{p}, "192.0.2.1", true), Warning, "passive", "tells clients 127.0.0.1")
	p.Advertise = "files.portselwyn.invalid"
	says(t, Passive(t.Context(), []Post{p}, p.Advertise, true), Warning, "passive", "does not come through")
	if low, _ := ephemeral(); low > 0 {
		p.PassiveLow, p.PassiveHigh = low, low+3
		says(t, Passive(t.Context(), []Post{p}, "", true), Note, "passive", "outgoing connections")
	}
}

func TestWhatOthersMayReadOrNobodyCanWriteIsFound(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700))
	files, keys := filepath.Join(dir, "files"), filepath.Join(dir, "hostkeys")
	require.NoError(t, os.Mkdir(files, 0o755))
	require.NoError(t, os.Mkdir(keys, 0o700))
	key := filepath.Join(keys, "ssh-rsa.pem")
	require.NoError(t, os.WriteFile(key, nil, 0o600))
	stores := []keep.Store{{Name: "files", Folder: files}}
	require.NoError(t, os.WriteFile(filepath.Join(files, "urbankeep.db"), nil, 0o644)) // a stored file, no secret
	assert.Equal(t, Fine, Folder(dir, stores).Worst())
	require.NoError(t, os.Chmod(key, 0o640))
	says(t, Folder(dir, stores), Fault, "data-folder", "ssh-rsa.pem (0640)")
	require.NoError(t, os.Chmod(key, 0o600))
	require.NoError(t, os.Chmod(dir, 0o755))
	says(t, Folder(dir, stores), Fault, "data-folder", "(0755)")

	fine := func(keep.Store) (error, store.Space) { return nil, store.Space{} }
	says(t, Stores(stores, fine), Fine, "store", "can be written")
	left, err := filepath.Glob(filepath.Join(files, ".*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	says(t, Stores(stores, func(keep.Store) (error, store.Space) { return syscall.EROFS, store.Space{} }), Fault, "store", "can't be written: read-only")
}

func TestLittleRoomIsFound(t *testing.T) {
	const gib = 1 << 30
	for _, c := range []struct {
		now   store.Space
		state State
		says  string
	}{
		{store.Space{Bytes: 100 * gib, FreeBytes: 50 * gib, Files: 100, FreeFiles: 90}, Fine, "has 50 GiB left"},
		{store.Space{Bytes: 100 * gib, FreeBytes: gib / 2}, Warning, "has 512 MiB left of 100 GiB"},
		{store.Space{Bytes: 100 * gib, FreeBytes: 1 << 20}, Fault, "has 1 MiB left"},
		{store.Space{Bytes: 2 * gib, FreeBytes: gib / 2}, Fine, "left"}, // small, but a quarter is free
		{store.Space{Bytes: 100 * gib, FreeBytes: 50 * gib, Files: 1000, FreeFiles: 3}, Warning, "only 3 more files"},
	} {
		says(t, Room("store", "files", "/srv", c.now), c.state, "store", c.says)
	}
}

func TestTheManagementPortComesFirst(t *testing.T) {
	p := post(keep.FTP, "[::]:21")
	p.PassiveLow, p.PassiveHigh = 47000, 47099
	ports := Ports([]Post{p, post(keep.SFTP, "127.0.0.1:2222")}, 22)
	require.Len(t, ports, 3, "what only this machine reaches needs no port")
	for _, name := range Firewalls() {
		lines, err := Commands(name, ports)
		require.NoError(t, err)
		text := strings.Join(lines, "\n")
		assert.Less(t, strings.Index(text, "22"), strings.Index(text, "21"), name)
		assert.Regexp(t, "47000[-:]47099", text, name)
	}
	_, err := Commands("none", ports)
	assert.ErrorContains(t, err, "use firewalld, iptables")
}
