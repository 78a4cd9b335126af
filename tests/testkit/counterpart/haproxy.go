package counterpart

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// StartHAProxy runs haproxy with the sections of a configuration, until the test ends, and waits for
// an address of its.
func StartHAProxy(t testing.TB, ready string, sections ...string) {
	const program = "/usr/sbin/haproxy"
	if _, err := os.Stat(program); err != nil {
		t.Skip("no haproxy is installed: scripts/install-tools")
	}
	config := filepath.Join(t.TempDir(), "haproxy.cfg")
	head := "global\n  log stdout format raw local0 err\ndefaults\n  timeout connect 10s\n  timeout client 3m\n  timeout server 3m\n"
	require.NoError(t, os.WriteFile(config, []byte(head+strings.Join(sections, "\n")+"\n"), 0o600))
	run := exec.Command(program, "-db", "-f", config)
	run.Stdout, run.Stderr = t.Output(), t.Output()
	require.NoError(t, run.Start())
	t.Cleanup(func() { run.Process.Kill(); run.Wait() })
	for end := time.Now().Add(testkit.Patience); ; time.Sleep(20 * time.Millisecond) {
		conn, err := net.Dial("tcp", ready)
		if err == nil {
			conn.Close()
			return
		}
		require.Less(t, time.Now(), end, "haproxy does not listen on %s: %v", ready, err)
	}
}
