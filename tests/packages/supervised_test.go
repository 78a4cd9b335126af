//go:build linux

package packages_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// As a supervisor sees the program: it takes over a socket, says when it is ready, that it
// lives, and that it stops.
func TestTheProgramSpeaksWithItsSupervisor(t *testing.T) {
	dir := testkit.Folder(t)
	told, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: filepath.Join(dir, "notify"), Net: "unixgram"})
	require.NoError(t, err)
	defer told.Close()
	socket, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	file, err := socket.(*net.TCPListener).File()
	require.NoError(t, err)
	at := socket.Addr().String()
	socket.Close()

	run := exec.Command("sh", "-c", `LISTEN_PID=$$ WATCHDOG_PID=$$ exec "$@"`, "sh", testkit.Binary(t), "serve", "-data", filepath.Join(dir, "keep"), "-console", "127.0.0.1:0",
		"-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0", "-sftp", "127.0.0.1:1")
	run.Env = append(os.Environ(), "NOTIFY_SOCKET="+filepath.Join(dir, "notify"), "LISTEN_FDS=1", "LISTEN_FDNAMES=sftp", "WATCHDOG_USEC=300000")
	run.ExtraFiles, run.Stderr = []*os.File{file}, t.Output()
	require.NoError(t, run.Start())
	defer run.Process.Kill()
	file.Close()
	hears := func(what string) {
		t.Helper()
		told.SetReadDeadline(time.Now().Add(testkit.Patience))
		for buf := make([]byte, 1000); ; {
			n, err := told.Read(buf)
			require.NoError(t, err, "no %s came", what)
			if strings.Contains(string(buf[:n]), what) {
				return
			}
		}
	}
	hears("READY=1")
	conn, err := net.DialTimeout("tcp", at, 10*time.Second)
	require.NoError(t, err)
	greeting := make([]byte, 8)
	_, err = conn.Read(greeting)
	require.NoError(t, err)
	assert.Equal(t, "SSH-2.0-", string(greeting), "on the supervisor's socket, not on its own address")
	conn.Close()
	hears("WATCHDOG=1")
	hears("WATCHDOG=1")
	require.NoError(t, run.Process.Signal(syscall.SIGTERM))
	hears("STOPPING=1")
	assert.NoError(t, run.Wait())
}
