package abuse_test

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/demo"
	"urbankeep/internal/keep"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/sftptalk"
)

// from dials from one of many addresses of this machine.
func from(n int, address string) (net.Conn, error) {
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(n))}, Timeout: 5 * time.Second}
	return d.Dial("tcp", address)
}

// Strangers from twenty addresses keep as many connections open as they get, for ever anew, on
// every listener and on the console, where they send bodies a byte at a time. Who wants in gets in.
func TestStrangersCannotShutEverybodyOut(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("needs all of 127.0.0.0/8 on the machine")
	}
	k := testkit.Start(t)
	k.Account("ann")
	stop := make(chan struct{})
	var flood sync.WaitGroup
	for n := range 20 {
		for _, listener := range []string{"ftp", "sftp", "console"} {
			address := k.Address(listener)
			if listener == "console" {
				address = k.ConsoleAddress()
			}
			flood.Go(func() { besiege(n+1, address, listener == "console", stop) })
		}
	}
	time.Sleep(2 * time.Second) // until all have what they can get
	for range 5 {
		_, err := k.Curl("ann", "ftps", "/")
		assert.NoError(t, err, "FTPS")
		_, err = k.SFTP("ann", k.Key("ann"), "ls")
		assert.NoError(t, err, "SFTP")
		response, err := http.Get("http://" + k.ConsoleAddress() + "/api/v1/setup")
		if assert.NoError(t, err, "the console") {
			response.Body.Close()
		}
	}
	close(stop)
	flood.Wait()
	require.Eventually(t, func() bool { return descriptors(t) < 120 }, testkit.Patience, 200*time.Millisecond, "waited for the descriptors to come back")
}

// besiege opens connections from one address, and each that is closed anew, until stop.
func besiege(n int, address string, slow bool, stop chan struct{}) {
	var open []net.Conn
	defer func() {
		for _, conn := range open {
			conn.Close()
		}
	}()
	for {
		select {
		case <-stop:
			return
		case <-time.After(20 * time.Millisecond):
		}
		if len(open) > 60 {
			open[0].Close()
			open = open[1:]
		}
		conn, err := from(n, address)
		if err != nil {
			continue
		}
		if slow {
			fmt.Fprint(conn, "POST /api/v1/sign-in HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 100000\r\n\r\n{")
		}
		open = append(open, conn)
	}
}

func descriptors(t *testing.T) int {
	found, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	return len(found)
}

// What a stranger can write into the trail is bounded.
func TestStrangersCannotFloodTheTrail(t *testing.T) {
	k := testkit.Start(t)
	conn, err := net.Dial("tcp", k.Address("ftp"))
	require.NoError(t, err)
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(testkit.Patience))
	in := bufio.NewReader(conn)
	said, err := in.ReadString('\n')
	require.NoError(t, err, said)
	for n := range 3000 {
		fmt.Fprintf(conn, "USER guess-%d\r\n", n)
		if _, err := in.ReadString('\n'); err != nil {
			break
		}
	}
	for range 300 {
		response, err := http.Post("http://"+k.ConsoleAddress()+"/api/v1/sign-in", "application/json", strings.NewReader(`{"operator": "ilse", "password": "x"}`))
		require.NoError(t, err)
		io.Copy(io.Discard, response.Body)
		response.Body.Close()
	}
	var written []api.AuditRecord
	k.Must(&written, "audit", "-outcome", "refused", "-most", "10000")
	assert.Less(t, len(written), 100)
	assert.Greater(t, len(written), 20)
}

// Where passwords go over TLS only, who may go without is told from nobody by USER where they could
// sign in, and nowhere else; and not by who has guessed too often.
func TestUSERTellsWhoMayGoWithoutTLSOnlyWhereTheyMaySignIn(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("needs all of 127.0.0.0/8 on the machine")
	}
	k := testkit.StartOn(t, testkit.Folder(t), "127.0.0.1", func(o *service.Options) { o.Limits = testkit.Limits(10, 1000) })
	k.Account("gauge-7", "-encryption", "optional", "-allow", "127.0.1.7")
	k.Account("gauge-8", "-encryption", "optional")
	k.Account("gauge-9", "-encryption", "optional")
	k.Must(nil, "account", "suspend", "gauge-9")
	k.Account("ann")
	connect := func(n int) (user func(name string) string) {
		conn, err := from(n, k.Address("ftp"))
		require.NoError(t, err)
		t.Cleanup(func() { conn.Close() })
		conn.SetDeadline(time.Now().Add(testkit.Patience))
		in := bufio.NewReader(conn)
		_, err = in.ReadString('\n')
		require.NoError(t, err)
		return func(name string) string {
			fmt.Fprintf(conn, "USER %s\r\n", name)
			said, err := in.ReadString('\n')
			require.NoError(t, err)
			return said
		}
	}
	user := connect(1)
	nobody := user("nobody-at-all")
	assert.Contains(t, nobody, "530 ")
	for _, name := range []string{"ann", "gauge-7", "gauge-9"} {
		assert.Equal(t, nobody, user(name), name)
	}
	assert.Contains(t, connect(7)("gauge-7"), "331 ")
	assert.Contains(t, user("gauge-8"), "331 ")
	var why []api.AuditRecord
	k.Must(&why, "audit", "-account", "gauge-7", "-outcome", "refused")
	require.NotEmpty(t, why)
	assert.Equal(t, keep.NetworkRefused, why[0].Reason, "the trail has the reason")

	guesser := connect(2)
	for range 10 {
		guesser("nobody-at-all")
	}
	assert.Equal(t, nobody, guesser("gauge-8"), "a locked address learns no more")
	assert.Contains(t, user("gauge-8"), "331 ")
}

// What is done for a connection ends with it, over either protocol.
func TestWorkEndsWithWhoAskedForIt(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("ben")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	f, err := os.Create(filepath.Join(k.Home("ann"), "endless"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(8<<40))
	require.NoError(t, f.Close())

	client := sftptalk.SSH(t, k, "ann")
	r := sftptalk.Channel(t, client)
	r.Send(sftptalk.FxpInit, sftptalk.U32(3))
	r.Receive()
	handle := r.Open("/endless", sftptalk.FxfRead)
	r.Send(sftptalk.FxpExtended, sftptalk.Join(sftptalk.U32(77), sftptalk.Str("check-file-handle"), handle, sftptalk.Str("sha256"), sftptalk.U64(0), sftptalk.U64(0), sftptalk.U32(0)))
	control, err := tls.Dial("tcp", k.Address("ftps"), &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	in := bufio.NewReader(control)
	say := func(line string) {
		_, err := in.ReadString('\n')
		require.NoError(t, err)
		fmt.Fprint(control, line+"\r\n")
	}
	say("USER ann")
	say("PASS " + testkit.Password)
	say("HASH /endless")
	// Others are let in and served meanwhile.
	_, err = k.Curl("ben", "ftps", "/")
	assert.NoError(t, err)
	client.Close()
	control.Close()
	require.Eventually(t, func() bool {
		var sessions []api.Session
		k.Must(&sessions, "session", "list")
		return len(sessions) == 0
	}, testkit.Patience, 50*time.Millisecond, "waited for both to end")
	var hashed []api.AuditRecord
	require.Eventually(t, func() bool {
		k.Must(&hashed, "audit", "-action", "hash")
		return len(hashed) == 2
	}, testkit.Patience, 50*time.Millisecond, "waited for their records")
	for _, one := range hashed {
		assert.Equal(t, "client-gone", string(one.Reason))
	}
}

// A store can't lead into the kernel, by whatever way.
func TestNoStoreLeadsIntoTheKernel(t *testing.T) {
	if runtime.GOOS != "linux" || os.Geteuid() != 0 {
		t.Skip("needs root on Linux")
	}
	k := testkit.Start(t)
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink("/proc/self", link))
	mounted := testkit.Folder(t)
	require.NoError(t, exec.Command("mount", "-t", "proc", "proc", mounted).Run())
	t.Cleanup(func() { exec.Command("umount", "-l", mounted).Run() })
	for _, folder := range []string{"/proc/self", "/proc", "/sys/kernel", "/dev/shm", "/dev", link, mounted, filepath.Join(mounted, "self")} {
		assert.NotEmpty(t, k.Refused("store", "add", "kernel", folder), folder)
	}
	place := testkit.Folder(t)
	k.Must(nil, "store", "add", "place", place)
	k.Account("ann", "-home", "place:{account}")
	inside := filepath.Join(place, "ann", "inside")
	require.NoError(t, os.MkdirAll(inside, 0o755))
	require.NoError(t, exec.Command("mount", "-t", "proc", "proc", inside).Run())
	t.Cleanup(func() { exec.Command("umount", "-l", inside).Run() })
	r := sftptalk.Dial(t, k, "ann")
	for _, at := range []string{"/inside/version", "/inside/self/environ", "/inside/1/cmdline"} {
		got, _ := r.Ask(sftptalk.FxpOpen, sftptalk.Str(at), sftptalk.U32(sftptalk.FxfRead), sftptalk.NoAttrs())
		assert.EqualValues(t, sftptalk.FxpStatus, got, at)
	}
	assert.NotEqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpOpendir, sftptalk.Str("/inside")))
}

// Managers can't have the service read the machine's files, nor make stores anywhere.
func TestManagersStayWithinTheService(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("mara", "manager")
	c := testkit.SignedIn(t, k, "mara")
	var problem api.Problem
	c.Call("POST", "/stores", api.StoreNew{Name: "mine", Folder: t.TempDir()}, 422, &problem)
	assert.Contains(t, problem.Detail, "only an owner")
	ground := t.TempDir()
	k.Must(nil, "store", "grounds", "-set", filepath.Dir(k.Dir), "-set", ground)
	c.Call("POST", "/stores", api.StoreNew{Name: "mine", Folder: filepath.Join(ground, "mine")}, 201, nil)
	elsewhere := keep.Site{Endpoint: "127.0.0.1:22", User: "root", Folder: "/", HostKeys: []string{"SHA256:x"}, KeyFile: "/etc/shadow"}
	c.Call("POST", "/stores", api.StoreNew{Name: "other", Kind: keep.Remote, Site: elsewhere}, 422, &problem)
	assert.Contains(t, problem.Detail, "only an owner")
	c.Call("POST", "/stores", api.StoreNew{Name: "safe", Kind: keep.Sealed, Folder: filepath.Join(ground, "safe"), Site: keep.Site{Key: "file:/etc/shadow"}}, 422, &problem)
	assert.Contains(t, problem.Detail, "only an owner")
	c.Call("PATCH", "/stores/mine", map[string]any{"secretFrom": "file:/etc/shadow"}, 422, nil)
	c.Call("POST", "/stores/files/move", api.StoreMoveAsked{To: "mine"}, 403, nil)
	c.Call("PUT", "/certificates/main", map[string]string{"certificateFile": "/etc/shadow", "keyFile": "/etc/shadow"}, 403, nil)
	c.Call("PUT", "/collector", map[string]string{"address": "tcp://127.0.0.1:22"}, 403, nil)
}

// What opens a store elsewhere is written once, and is nowhere to be read.
func TestTheSecretOfAStoreIsShownNowhere(t *testing.T) {
	k := testkit.Start(t)
	objects, err := demo.OpenObjectStore(t.TempDir(), "city", "key")
	require.NoError(t, err)
	server := httptest.NewServer(objects)
	defer server.Close()
	const secret = "kept-at-the-customs-quay"
	out, errs, status := k.CLIWith(secret+"\n", "store", "add", "cloud", "-kind", "object", "-endpoint", server.URL, "-bucket", "city", "-user", "key")
	require.Zero(t, status, errs)
	all := out + errs
	for _, args := range [][]string{{"store", "list", "-json"}, {"store", "check", "cloud", "-json"}, {"history", "-json"}, {"audit", "-json"}, {"store", "remove", "cloud", "-json"}, {"history", "-json"}} {
		out, errs, _ := k.CLI(args...)
		all += out + errs
	}
	assert.NotContains(t, all, secret)
	assert.Contains(t, all, server.URL)
}

// A certificate is followed from a plain file of bounded size only, and what else is there is
// not told.
func TestFollowingACertificateReadsNothingElse(t *testing.T) {
	k := testkit.Start(t)
	dir := t.TempDir()
	large, secret := filepath.Join(dir, "large"), filepath.Join(dir, "secret")
	f, err := os.Create(large)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(3<<30))
	require.NoError(t, f.Close())
	require.NoError(t, os.WriteFile(secret, []byte("a secret"), 0o600))
	files := []string{large, secret, dir, "/dev/zero", filepath.Join(dir, "missing")}
	if fifo := filepath.Join(dir, "fifo"); exec.Command("mkfifo", fifo).Run() == nil {
		files = append(files, fifo)
	}
	said := map[string]bool{}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	for _, file := range files {
		said[k.Refused("certificate", "follow", file, file)] = true
	}
	runtime.ReadMemStats(&after)
	assert.Len(t, said, 1, "%v", said)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(64<<20))
}
