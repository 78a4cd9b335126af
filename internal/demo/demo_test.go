package demo_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// start runs the demo on a data folder and gives its addresses by name.
func start(t *testing.T, data string, args ...string) (addresses map[string]string, stop func()) {
	low := testkit.FreePorts(t)
	run := exec.Command(testkit.Binary(t), append([]string{"demo", "-data", data, "-console", "127.0.0.1:0", "-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0",
		"-sftp", "127.0.0.1:0", "-passive", fmt.Sprintf("%d-%d", low, low+49)}, args...)...)
	run.Stderr = t.Output()
	out, err := run.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, run.Start())
	stop = func() {
		run.Process.Signal(syscall.SIGTERM)
		assert.NoError(t, run.Wait())
	}
	ready := regexp.MustCompile(`^ready: console http://(\S+)  ftp (\S+)  ftps (\S+)  sftp (\S+)$`)
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if found := ready.FindStringSubmatch(lines.Text()); found != nil {
			return map[string]string{"8470": found[1], "2121": found[2], "2990": found[3], "2222": found[4]}, stop
		}
	}
	t.Fatal("the demo did not become ready")
	return nil, nil
}

func cli(t *testing.T, data string, v any, args ...string) {
	out, err := exec.Command(testkit.Binary(t), append(args, "-data", data, "-json")...).Output()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(out, v))
}

// TestTheREADMEsCommandsWorkAsPrinted runs the block of commands in the README,
// with only the ports and places put in that this test's demo has.
func TestTheREADMEsCommandsWorkAsPrinted(t *testing.T) {
	dir := testkit.Folder(t)
	data := filepath.Join(dir, ".demo")
	addresses, stop := start(t, data, "-still")
	defer stop()
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	_, block, found := strings.Cut(string(readme), "```sh\n")
	require.True(t, found)
	block, _, _ = strings.Cut(block, "```")
	for usual, address := range addresses {
		_, port, _ := net.SplitHostPort(address)
		block = strings.NewReplacer("-P "+usual, "-P "+port, ":"+usual, ":"+port).Replace(block)
	}
	block = strings.ReplaceAll(block, "bin/urbankeep", testkit.Binary(t))
	block = strings.ReplaceAll(block, "/tmp/plate-01.tif", filepath.Join(dir, "plate-01.tif"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "README.md"), readme, 0o600))
	run := exec.Command("bash", "-e", "-c", block)
	run.Dir = dir
	out, err := run.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Regexp(t, `crew-harbour +127\.0\.0\.1 +sftp +upload +/README\.md .* done`, string(out))
	assert.Regexp(t, `print-bureau +127\.0\.0\.1 +ftp +download +/plate-01\.tif .* done`, string(out))
	stored, err := os.ReadFile(filepath.Join(data, "files", "crews", "crew-harbour", "README.md"))
	require.NoError(t, err)
	assert.Equal(t, readme, stored)

	var papers struct {
		Accounts []struct{ Account, Password, KeyFile string }
	}
	text, err := os.ReadFile(filepath.Join(data, "credentials.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &papers))
	for _, p := range papers.Accounts {
		if p.Password != "" {
			assert.Contains(t, string(readme), p.Password)
		}
	}
}

func TestTheCityHasTheSameHistoryOnEveryRunAndLiveTraffic(t *testing.T) {
	data := filepath.Join(testkit.Folder(t), "city")
	var guesses, report [2]int
	for n := range 2 { // the second run makes the first one's folder anew
		_, stop := start(t, data, "-still")
		var found []api.AuditRecord
		cli(t, data, &found, "audit", "-address", "203.0.113.77", "-outcome", "refused", "-most", "1000")
		var verified api.AuditReport
		cli(t, data, &verified, "audit", "verify")
		assert.Zero(t, verified.BadSeq)
		guesses[n], report[n] = len(found), int(verified.Checked)
		stop()
	}
	assert.Equal(t, 140, guesses[0])
	assert.Equal(t, guesses[0], guesses[1])
	assert.Greater(t, report[0], 10_000)

	_, stop := start(t, data)
	defer stop()
	over := map[string]bool{}
	require.Eventually(t, func() bool {
		var found []api.Transfer
		cli(t, data, &found, "transfer", "list", "-address", "127.0.0.1", "-most", "200")
		for _, tr := range found {
			over[string(tr.Protocol)] = over[string(tr.Protocol)] || tr.Outcome == "done"
		}
		return over["ftp"] && over["sftp"] && over["ftps"]
	}, testkit.Patience, 100*time.Millisecond)
}

func TestAFolderThatIsNoDemoIsLeftAlone(t *testing.T) {
	data := t.TempDir()
	precious := filepath.Join(data, "precious")
	require.NoError(t, os.WriteFile(precious, nil, 0o600))
	run := exec.Command(testkit.Binary(t), "demo", "-data", data)
	out, err := run.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "holds something that is not an earlier demo")
	assert.FileExists(t, precious)
}
