//go:build linux

package abuse_test

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// Under every flood at once (idle strangers from twenty addresses, bodies a byte at a time, wrong passwords from
// fifty addresses, hashes without end by one account) who is known signs in, a running
// transfer keeps its speed, and afterwards the service holds no more than before.
func TestEveryFloodAtOnceHoldsNobodyUp(t *testing.T) {
	p := testkit.Launch(t, testkit.Folder(t))
	p.AddAccount()
	p.CLI(nil, testkit.Password+"\n", "account", "add", "ben", "-home", "files:ben", "-password")
	console := p.Console
	big := filepath.Join(p.Dir, "files", "crew-harbour", "big")
	require.NoError(t, os.MkdirAll(filepath.Dir(big), 0o750))
	const size, pace = 32 << 20, 8 << 20
	require.NoError(t, os.WriteFile(big, make([]byte, size), 0o600))
	endless, err := os.Create(filepath.Join(p.Dir, "files", "ben-endless"))
	require.NoError(t, err)
	require.NoError(t, endless.Truncate(8<<40))
	require.NoError(t, endless.Close())
	require.NoError(t, os.MkdirAll(filepath.Join(p.Dir, "files", "ben"), 0o750))
	require.NoError(t, os.Rename(endless.Name(), filepath.Join(p.Dir, "files", "ben", "endless")))

	fetch := func() time.Duration {
		out, err := p.Curl("--limit-rate", fmt.Sprint(pace), "-o", os.DevNull, "-w", "%{time_total} %{time_starttransfer}", "ftps://"+p.FTPS+"/big").CombinedOutput()
		require.NoError(t, err, "%s", out)
		var whole, start float64
		_, err = fmt.Sscan(string(out), &whole, &start)
		require.NoError(t, err, "%s", out)
		return time.Duration((whole - start) * float64(time.Second))
	}
	signIn := func() time.Duration {
		began := time.Now()
		out, err := p.Curl("-l", "ftps://"+p.FTPS+"/").CombinedOutput()
		assert.NoError(t, err, "%s", out)
		out, err = p.SFTPBatch("ls").CombinedOutput()
		assert.NoError(t, err, "%s", out)
		return time.Since(began)
	}
	quietSignIn := signIn()
	quiet := fetch()
	held := descriptorsOf(t, p.Run)

	stop := make(chan struct{})
	var flood sync.WaitGroup
	for n := range 20 {
		for _, address := range []string{p.FTPS, p.SFTP, console} {
			flood.Go(func() { besiege(n+1, address, address == console, stop) })
		}
	}
	for n := range 50 {
		flood.Go(func() { guess(n+100, p.FTPS, stop) })
	}
	for range 4 {
		flood.Go(func() { hash(t, p.FTPS, stop) })
	}
	time.Sleep(2 * time.Second) // until all have what they can get
	slowest := time.Duration(0)
	fetched := make(chan time.Duration)
	go func() { fetched <- fetch() }()
	for range 4 {
		slowest = max(slowest, signIn())
	}
	flooded := <-fetched
	t.Logf("signed in twice: %s quiet, at most %s flooded; transfer: %s quiet, %s flooded", quietSignIn, slowest, quiet, flooded)
	assert.Less(t, slowest, 6*time.Second+10*quietSignIn, "signing in over each protocol takes 3 s at the most, on a machine that is quick enough")
	// curl goes ahead of its pace at first, when it can.
	assert.Greater(t, float64(max(quiet, size/pace*time.Second))/float64(flooded), 0.8, "a running transfer keeps its speed")
	close(stop)
	flood.Wait()
	require.Eventually(t, func() bool { return descriptorsOf(t, p.Run) <= held+5 }, testkit.Patience, 200*time.Millisecond, "waited for the descriptors to come back")
	assert.Less(t, memoryOf(t, p.Run), 400<<20)
}

// guess tries wrong passwords from one address, for ever anew, until stop.
func guess(n int, address string, stop chan struct{}) {
	for {
		select {
		case <-stop:
			return
		case <-time.After(10 * time.Millisecond):
		}
		conn, err := from(n, address)
		if err != nil {
			continue
		}
		secure := tls.Client(conn, &tls.Config{InsecureSkipVerify: true})
		conn.SetDeadline(time.Now().Add(20 * time.Second))
		in := bufio.NewScanner(secure)
		for _, line := range []string{"", "USER crew-harbour", "PASS wrong", "USER crew-harbour", "PASS wrong", "USER crew-harbour", "PASS wrong"} {
			if line != "" {
				fmt.Fprint(secure, line+"\r\n")
			}
			if !in.Scan() {
				break
			}
		}
		conn.Close()
	}
}

// hash has the service hash a file that has no end, until stop.
func hash(t *testing.T, address string, stop chan struct{}) {
	conn, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
	if !assert.NoError(t, err) {
		return
	}
	defer conn.Close()
	in := bufio.NewScanner(conn)
	for _, line := range []string{"USER ben", "PASS " + testkit.Password, "HASH endless"} {
		in.Scan()
		fmt.Fprint(conn, line+"\r\n")
	}
	<-stop
}

func descriptorsOf(t *testing.T, run *exec.Cmd) int {
	found, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", run.Process.Pid))
	require.NoError(t, err)
	return len(found)
}

// memoryOf is what a process holds now, bytes.
func memoryOf(t *testing.T, run *exec.Cmd) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", run.Process.Pid))
	require.NoError(t, err)
	pages, err := strconv.Atoi(strings.Fields(string(text))[1])
	require.NoError(t, err)
	return pages * os.Getpagesize()
}
