package testkit

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Process is the service as a program of its own.
type Process struct {
	t       *testing.T
	Dir     string
	Run     *exec.Cmd
	SFTP    string // address
	FTPS    string
	Console string // address
	Key     string // of the account, once there is one
}

var (
	listening = regexp.MustCompile(`  (\S+) (\S+)`)
	onConsole = regexp.MustCompile(`http://(\S+)`)
)

// Launch starts serve on a data folder, with more flags, and waits until it is ready.
func Launch(t *testing.T, dir string, args ...string) *Process {
	low := FreePorts(t)
	return LaunchAgain(t, dir, append([]string{"-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0", "-sftp", "127.0.0.1:0", "-passive", fmt.Sprintf("%d-%d", low, low+49)}, args...)...)
}

// LaunchAgain is Launch for a data folder that has its addresses.
func LaunchAgain(t *testing.T, dir string, args ...string) *Process {
	p := &Process{t: t, Dir: dir}
	p.Run = exec.Command(Binary(t), append([]string{"serve", "-data", dir, "-console", "127.0.0.1:0"}, args...)...)
	p.Run.Stderr = t.Output()
	out, err := p.Run.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, p.Run.Start())
	t.Cleanup(func() { p.Run.Process.Kill(); p.Run.Wait() })
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if strings.HasPrefix(lines.Text(), "ready: ") {
			if at := onConsole.FindStringSubmatch(lines.Text()); at != nil {
				p.Console = at[1]
			}
			for _, listener := range listening.FindAllStringSubmatch(lines.Text(), -1) {
				switch listener[1] {
				case "ftps":
					p.FTPS = listener[2]
				case "sftp":
					p.SFTP = listener[2]
				}
			}
			go io.Copy(io.Discard, out) // ends with the process
			return p
		}
	}
	t.Fatal("the service did not become ready")
	return nil
}

// CLI runs a command of the program and reads its JSON.
func (p *Process) CLI(v any, stdin string, args ...string) {
	p.t.Helper()
	run := p.Command(append(args, "-json")...)
	run.Stdin = strings.NewReader(stdin)
	out, err := run.Output()
	require.NoError(p.t, err, "%v: %s", args, out)
	if v != nil {
		require.NoError(p.t, json.Unmarshal(out, v))
	}
}

// Command is one of our commands against the service.
func (p *Process) Command(args ...string) *exec.Cmd {
	return exec.Command(Binary(p.t), append(args, "-data", p.Dir)...)
}

// Curl is the real curl with the account of AddAccount.
func (p *Process) Curl(args ...string) *exec.Cmd {
	return exec.Command("curl", append([]string{"-sS", "-k", "--user", "crew-harbour:" + Password}, args...)...)
}

// SFTPBatch is a batch of the real sftp client with the key of AddAccount.
func (p *Process) SFTPBatch(lines ...string) *exec.Cmd {
	host, port, _ := net.SplitHostPort(p.SFTP)
	run := exec.Command("sftp", "-q", "-b", "-", "-P", port, "-i", p.Key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no",
		"-o", "UserKnownHostsFile="+os.DevNull, "crew-harbour@"+host)
	run.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	return run
}

// AddAccount adds crew-harbour with [Password] and a key.
func (p *Process) AddAccount() {
	p.Key = filepath.Join(p.t.TempDir(), "key")
	require.NoError(p.t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", p.Key).Run())
	p.CLI(nil, Password+"\n", "account", "add", "crew-harbour", "-home", "files:{account}", "-password", "-key", p.Key+".pub")
}
