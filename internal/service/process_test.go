package service_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// process is the service as a program of its own.
type process struct {
	t    *testing.T
	dir  string
	run  *exec.Cmd
	sftp string // address
	ftps string
	key  string // of the account, once there is one
}

var readyLine = regexp.MustCompile(`^ready: console http://(\S+)  ftp (\S+)  ftps (\S+)  sftp (\S+)$`)

func launch(t *testing.T, dir string, args ...string) *process {
	p := &process{t: t, dir: dir}
	low := testkit.FreePorts(t)
	p.run = exec.Command(testkit.Binary(t), append([]string{"serve", "-data", dir, "-console", "127.0.0.1:0", "-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0",
		"-sftp", "127.0.0.1:0", "-passive", fmt.Sprintf("%d-%d", low, low+49)}, args...)...)
	p.run.Stderr = t.Output()
	out, err := p.run.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, p.run.Start())
	t.Cleanup(func() { p.run.Process.Kill(); p.run.Wait() })
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if found := readyLine.FindStringSubmatch(lines.Text()); found != nil {
			p.ftps, p.sftp = found[3], found[4]
			go io.Copy(io.Discard, out) // ends with the process
			return p
		}
	}
	t.Fatal("the service did not become ready")
	return nil
}

// cli runs a command of the program and reads its JSON.
func (p *process) cli(v any, stdin string, args ...string) {
	p.t.Helper()
	run := exec.Command(testkit.Binary(p.t), append(args, "-data", p.dir, "-json")...)
	run.Stdin = strings.NewReader(stdin)
	out, err := run.Output()
	require.NoError(p.t, err, "%v: %s", args, out)
	if v != nil {
		require.NoError(p.t, json.Unmarshal(out, v))
	}
}

func (p *process) curl(args ...string) *exec.Cmd {
	return exec.Command("curl", append([]string{"-sS", "-k", "--user", "crew-harbour:" + testkit.Password}, args...)...)
}

func (p *process) sftpBatch(lines ...string) *exec.Cmd {
	host, port, _ := net.SplitHostPort(p.sftp)
	run := exec.Command("sftp", "-q", "-b", "-", "-P", port, "-i", p.key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no",
		"-o", "UserKnownHostsFile="+os.DevNull, "crew-harbour@"+host)
	run.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	return run
}

func (p *process) addAccount() {
	p.key = filepath.Join(p.t.TempDir(), "key")
	require.NoError(p.t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", p.key).Run())
	p.cli(nil, testkit.Password+"\n", "account", "add", "crew-harbour", "-home", "files:{account}", "-password", "-key", p.key+".pub")
}

func TestAfterAKillEverythingAcknowledgedIsRecordedAndWhole(t *testing.T) {
	dir := testkit.Folder(t)
	p := launch(t, dir)
	p.addAccount()
	big, _ := testkit.File(t, 200<<20)
	endless := p.curl("--limit-rate", "5M", "-T", big, "ftps://"+p.ftps+"/big")
	require.NoError(t, endless.Start())

	outside := t.TempDir()
	var mu sync.Mutex
	acknowledged := map[string][]byte{}
	var uploading sync.WaitGroup
	for w := range 4 {
		uploading.Go(func() {
			for n := 0; ; n++ {
				name := fmt.Sprintf("w%d-%d", w, n)
				content := bytes.Repeat([]byte(name), 3000)
				file := filepath.Join(outside, name)
				if os.WriteFile(file, content, 0o600) != nil {
					return
				}
				// curl does not look at the reply to its last SFTP request; sftp does.
				upload := p.curl("-T", file, "ftps://"+p.ftps+"/"+name)
				if w%2 == 1 {
					upload = p.sftpBatch("put " + file)
				}
				if upload.Run() != nil {
					return // the service is gone
				}
				mu.Lock()
				acknowledged[name] = content
				mu.Unlock()
			}
		})
	}
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(acknowledged) >= 25 }, time.Minute, 5*time.Millisecond)
	require.NoError(t, p.run.Process.Kill())
	uploading.Wait()
	endless.Wait()
	p.run.Wait()

	again := launch(t, dir)
	var report api.AuditReport
	again.cli(&report, "", "audit", "verify")
	assert.Zero(t, report.BadSeq, report.Problem)
	var found []api.Transfer
	again.cli(&found, "", "transfer", "list", "-most", "100000")
	recorded := map[string]int64{}
	for _, tr := range found {
		if tr.Outcome == "done" {
			recorded[tr.Path] = tr.Bytes
		}
	}
	for name, content := range acknowledged {
		assert.EqualValues(t, len(content), recorded["/"+name], name)
		assert.Equal(t, content, onDisk(t, filepath.Join(dir, "files", "crew-harbour", name)), name)
	}
	assert.NotContains(t, recorded, "/big")
}

func TestSIGTERMLetsARunningTransferEndAndTakesNoNewOne(t *testing.T) {
	dir := testkit.Folder(t)
	p := launch(t, dir, "-grace", "30s")
	p.addAccount()
	file, content := testkit.File(t, 6<<20)
	for _, url := range []string{"ftps://" + p.ftps + "/ftp", "sftp://" + p.sftp + "/sftp"} {
		upload := p.curl("--limit-rate", "2M", "-T", file, url)
		upload.Stderr = t.Output()
		require.NoError(t, upload.Start())
		defer func() { assert.NoError(t, upload.Wait(), url) }()
	}
	require.Eventually(t, func() bool {
		var s api.Status
		p.cli(&s, "", "status")
		return s.Transfers == 2
	}, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, p.run.Process.Signal(syscall.SIGTERM))
	require.Eventually(t, func() bool { return p.curl("--max-time", "5", "ftps://"+p.ftps+"/").Run() != nil }, 5*time.Second, 50*time.Millisecond)
	require.NoError(t, p.run.Wait(), "a clean end")
	for _, name := range []string{"ftp", "sftp"} {
		assert.Equal(t, len(content), len(onDisk(t, filepath.Join(dir, "files", "crew-harbour", name))))
	}
	assert.NoFileExists(t, filepath.Join(dir, "control.sock"))
	again := launch(t, dir)
	var found []api.AuditRecord
	again.cli(&found, "", "audit", "-action", "service-stop,upload")
	require.Len(t, found, 3)
	assert.EqualValues(t, "service-stop", found[0].Action)
	assert.EqualValues(t, "done", found[1].Outcome)
}

func TestWhatKeepsAServiceFromStartingIsSaid(t *testing.T) {
	dir := testkit.Folder(t)
	p := launch(t, dir)
	for _, c := range []struct {
		args []string
		say  string
	}{
		{[]string{"serve", "-data", dir}, "is in use by another urbankeep"},
		{[]string{"serve", "-data", testkit.Folder(t), "-console", "127.0.0.1:0", "-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0", "-sftp", p.sftp}, "address already in use: give it another address with -sftp"},
		{[]string{"serve", "-data", filepath.Join(dir, strings.Repeat("long/", 30)), "-console", "127.0.0.1:0", "-ftp", ":0", "-ftps", ":0", "-sftp", ":0"}, "choose a data folder with a shorter path"},
	} {
		run := exec.Command(testkit.Binary(t), c.args...)
		out, err := run.CombinedOutput()
		assert.Error(t, err)
		assert.Equal(t, 1, run.ProcessState.ExitCode())
		assert.Contains(t, string(out), c.say)
	}
	run := exec.Command(testkit.Binary(t), "serve", "-passive", "9-3")
	out, _ := run.CombinedOutput()
	assert.Equal(t, 2, run.ProcessState.ExitCode())
	assert.Contains(t, string(out), "LOW-HIGH")
	info, err := os.Stat(filepath.Join(dir, "control.sock"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// However often (fifty times) the service is killed under load, its trail hangs together and agrees
// with every checkpoint that was signed, and no acknowledged upload is missing.
func TestTheTrailAndItsCheckpointsHoldAfterEachKill(t *testing.T) {
	dir := testkit.Folder(t)
	p := launch(t, dir)
	p.addAccount()
	key := p.key
	file, _ := testkit.File(t, 100)
	var kept string
	acknowledged := map[string]bool{}
	random := rand.New(rand.NewPCG(50, 6))
	for round := range 50 {
		stop := make(chan struct{})
		var uploading sync.WaitGroup
		var mu sync.Mutex
		for w := range 3 {
			uploading.Go(func() {
				for n := 0; ; n++ {
					select {
					case <-stop:
						return
					default:
					}
					name := fmt.Sprintf("r%d-w%d-%d", round, w, n)
					if p.sftpBatch("put "+file+" "+name).Run() != nil {
						return
					}
					mu.Lock()
					acknowledged["/"+name] = true
					mu.Unlock()
				}
			})
		}
		time.Sleep(time.Duration(50+random.IntN(450)) * time.Millisecond)
		require.NoError(t, p.run.Process.Kill())
		close(stop)
		uploading.Wait()
		p.run.Wait()
		p = launch(t, dir)
		p.key = key
		var report api.AuditReport
		args := []string{"audit", "verify"}
		if kept != "" {
			args = append(args, "-checkpoint", kept)
		}
		p.cli(&report, "", args...)
		require.Zero(t, report.BadSeq, "round %d: %s", round, report.Problem)
		var last api.Checkpoint
		p.cli(&last, "", "audit", "checkpoint")
		kept = last.Line
	}
	var found []api.Transfer
	p.cli(&found, "", "transfer", "list", "-outcome", "done", "-most", "100000")
	for _, tr := range found {
		delete(acknowledged, tr.Path)
	}
	assert.Empty(t, acknowledged, "acknowledged, and not recorded")
	assert.GreaterOrEqual(t, len(found), 50)
	t.Logf("%d uploads were recorded", len(found))
}
