package counterpart

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

// SSHD is OpenSSH's own SFTP server.
type SSHD struct {
	t      testing.TB
	run    *exec.Cmd
	config string
	Folder string    // that it serves, on this machine too
	Site   keep.Site // of that
}

// StartSSHD starts it, with a key for whoever runs the test.
func StartSSHD(t testing.TB) *SSHD {
	const program = "/usr/sbin/sshd"
	if _, err := os.Stat(program); err != nil {
		t.Skip("no SSH server is installed: scripts/install-tools")
	}
	dir, err := os.MkdirTemp("", "sshd")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	for _, name := range []string{"host", "user"} {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, name)).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	if os.Getuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	}
	me, err := user.Current()
	require.NoError(t, err)
	port := strconv.Itoa(testkit.FreePorts(t))
	s := &SSHD{t: t, Folder: filepath.Join(dir, "folder"), config: filepath.Join(dir, "config")}
	require.NoError(t, os.Mkdir(s.Folder, 0o755))
	require.NoError(t, os.WriteFile(s.config, fmt.Appendf(nil, `Port %s
ListenAddress 127.0.0.1
HostKey %s/host
AuthorizedKeysFile %s/user.pub
PidFile none
StrictModes no
UsePAM no
PermitRootLogin yes
PasswordAuthentication no
MaxStartups 100
Subsystem sftp /usr/lib/openssh/sftp-server
`, port, dir, dir), 0o600))
	line, err := exec.Command("ssh-keygen", "-lf", filepath.Join(dir, "host.pub")).Output()
	require.NoError(t, err)
	s.Site = keep.Site{Endpoint: "127.0.0.1:" + port, User: me.Username, HostKeys: []string{strings.Fields(string(line))[1]}, KeyFile: filepath.Join(dir, "user"), Folder: s.Folder}
	s.start()
	t.Cleanup(s.Kill)
	return s
}

func (s *SSHD) start() {
	s.run = exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", s.config)
	require.NoError(s.t, s.run.Start())
	require.Eventually(s.t, func() bool {
		c, err := net.Dial("tcp", s.Site.Endpoint)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, testkit.Patience, 50*time.Millisecond, "waited for the SSH server")
}

// Kill ends it and all its sessions.
func (s *SSHD) Kill() {
	exec.Command("pkill", "-9", "-P", strconv.Itoa(s.run.Process.Pid)).Run()
	s.run.Process.Kill()
	s.run.Wait()
}

// Revive starts it again.
func (s *SSHD) Revive() { s.start() }
