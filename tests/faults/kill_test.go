package faults_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
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

func TestAfterAKillEverythingAcknowledgedIsRecordedAndWhole(t *testing.T) {
	t.Parallel()
	dir := testkit.Folder(t)
	p := testkit.Launch(t, dir)
	p.AddAccount()
	big, _ := testkit.File(t, 200<<20)
	endless := p.Curl("--limit-rate", "5M", "-T", big, "ftps://"+p.FTPS+"/big")
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
				upload := p.Curl("-T", file, "ftps://"+p.FTPS+"/"+name)
				if w%2 == 1 {
					upload = p.SFTPBatch("put " + file)
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
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		info, err := os.Stat(filepath.Join(dir, "files", "crew-harbour", "big"))
		return len(acknowledged) >= 25 && err == nil && info.Size() > 0
	}, testkit.Patience, 5*time.Millisecond, "waited for uploads, and for the large one to have begun")
	require.NoError(t, p.Run.Process.Kill())
	uploading.Wait()
	endless.Wait()
	p.Run.Wait()

	again := testkit.Launch(t, dir)
	var report api.AuditReport
	again.CLI(&report, "", "audit", "verify")
	assert.Zero(t, report.BadSeq, report.Problem)
	var found []api.Transfer
	again.CLI(&found, "", "transfer", "list", "-most", "100000")
	recorded := map[string]int64{}
	for _, tr := range found {
		if tr.Outcome == "done" {
			recorded[tr.Path] = tr.Bytes
		}
	}
	for name, content := range acknowledged {
		assert.EqualValues(t, len(content), recorded["/"+name], name)
		assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(dir, "files", "crew-harbour", name)), name)
	}
	assert.NotContains(t, recorded, "/big")
	var cut []api.AuditRecord
	again.CLI(&cut, "", "audit", "-path", "/big", "-reason", "cut-off")
	if assert.Len(t, cut, 1, "the upload that the kill cut off is in the trail") {
		info, err := os.Stat(filepath.Join(dir, "files", "crew-harbour", "big"))
		require.NoError(t, err)
		assert.Contains(t, cut[0].Detail, fmt.Sprint(info.Size(), " bytes are there"))
	}
}

func TestSIGTERMLetsARunningTransferEndAndTakesNoNewOne(t *testing.T) {
	t.Parallel()
	dir := testkit.Folder(t)
	p := testkit.Launch(t, dir, "-grace", "30s")
	p.AddAccount()
	file, content := testkit.File(t, 6<<20)
	for _, url := range []string{"ftps://" + p.FTPS + "/ftp", "sftp://" + p.SFTP + "/sftp"} {
		upload := p.Curl("--limit-rate", "2M", "-T", file, url)
		upload.Stderr = t.Output()
		require.NoError(t, upload.Start())
		defer func() { assert.NoError(t, upload.Wait(), url) }()
	}
	require.Eventually(t, func() bool {
		var s api.Status
		p.CLI(&s, "", "status")
		return s.Transfers == 2
	}, testkit.Patience, 20*time.Millisecond)
	require.NoError(t, p.Run.Process.Signal(syscall.SIGTERM))
	require.Eventually(t, func() bool { return p.Curl("--max-time", "5", "ftps://"+p.FTPS+"/").Run() != nil }, testkit.Patience, 50*time.Millisecond)
	require.NoError(t, p.Run.Wait(), "a clean end")
	for _, name := range []string{"ftp", "sftp"} {
		assert.Equal(t, len(content), len(testkit.OnDisk(t, filepath.Join(dir, "files", "crew-harbour", name))))
	}
	assert.NoFileExists(t, filepath.Join(dir, "control.sock"))
	again := testkit.Launch(t, dir)
	var found []api.AuditRecord
	again.CLI(&found, "", "audit", "-action", "service-stop,upload")
	require.Len(t, found, 3)
	assert.EqualValues(t, "service-stop", found[0].Action)
	assert.EqualValues(t, "done", found[1].Outcome)
}

// A terminal that goes away ends the service as it should be ended.
func TestSIGHUPEndsTheServiceWithARecord(t *testing.T) {
	dir := testkit.Folder(t)
	p := testkit.Launch(t, dir)
	require.NoError(t, p.Run.Process.Signal(syscall.SIGHUP))
	require.NoError(t, p.Run.Wait(), "a clean end")
	var found []api.AuditRecord
	testkit.Launch(t, dir).CLI(&found, "", "audit", "-action", "service-stop")
	assert.Len(t, found, 1)
}

func TestWhatKeepsAServiceFromStartingIsSaid(t *testing.T) {
	dir := testkit.Folder(t)
	testkit.Launch(t, dir)
	for _, c := range []struct {
		args []string
		say  string
	}{
		{[]string{"serve", "-data", dir}, "is in use by another urbankeep"},
		{[]string{"serve", "-data", testkit.Folder(t), "-console", "127.0.0.1:0", "-listener", "nosuch=:1"}, "there is no listener named nosuch"},
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
	t.Parallel()
	dir := testkit.Folder(t)
	p := testkit.Launch(t, dir)
	p.AddAccount()
	key := p.Key
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
					if p.SFTPBatch("put "+file+" "+name).Run() != nil {
						return
					}
					mu.Lock()
					acknowledged["/"+name] = true
					mu.Unlock()
				}
			})
		}
		time.Sleep(time.Duration(50+random.IntN(450)) * time.Millisecond)
		require.NoError(t, p.Run.Process.Kill())
		close(stop)
		uploading.Wait()
		p.Run.Wait()
		p = testkit.Launch(t, dir)
		p.Key = key
		var report api.AuditReport
		args := []string{"audit", "verify"}
		if kept != "" {
			args = append(args, "-checkpoint", kept)
		}
		p.CLI(&report, "", args...)
		require.Zero(t, report.BadSeq, "round %d: %s", round, report.Problem)
		var last api.Checkpoint
		p.CLI(&last, "", "audit", "checkpoint")
		kept = last.Line
	}
	var found []api.Transfer
	p.CLI(&found, "", "transfer", "list", "-outcome", "done", "-most", "100000")
	for _, tr := range found {
		delete(acknowledged, tr.Path)
	}
	assert.Empty(t, acknowledged, "acknowledged, and not recorded")
	assert.GreaterOrEqual(t, len(found), 50)
	t.Logf("%d uploads were recorded", len(found))
}
