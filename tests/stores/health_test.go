package stores_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/demo"
	"urbankeep/tests/testkit"
)

// A store that takes a call and never answers: all that tells of the service answers and says so, others work, and SIGTERM ends the
// service while the store hangs and a client waits for it.
func TestAStoreThatDoesNotAnswerIsSaidAndWaitedForByNobody(t *testing.T) {
	t.Parallel()
	objects, err := demo.OpenObjectStore(t.TempDir(), "city", "key")
	require.NoError(t, err)
	var hangs sync.RWMutex // held alone while it does
	var hung sync.Once
	release := func() { hung.Do(hangs.Unlock) }
	objects.Before = func(*http.Request) *demo.ObjectFault {
		hangs.RLock()
		defer hangs.RUnlock()
		return nil
	}
	server := httptest.NewServer(objects)
	t.Cleanup(server.Close)
	data := testkit.Folder(t)
	p := testkit.Launch(t, data, "-grace", "1s")
	p.CLI(nil, "secret\n", "store", "add", "cloud", "-kind", "object", "-endpoint", server.URL, "-bucket", "city", "-user", "key")
	p.AddAccount()
	p.CLI(nil, testkit.Password+"\n", "account", "add", "far", "-home", "cloud:far", "-password")
	waits := p.Curl("--user", "far:"+testkit.Password, "-T", "-", "ftps://"+p.FTPS+"/f")
	pipe, err := waits.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, waits.Start())
	_, err = pipe.Write(make([]byte, 10_000))
	require.NoError(t, err)
	var running []api.Transfer
	require.Eventually(t, func() bool { p.CLI(&running, "", "transfer", "list"); return len(running) > 0 }, testkit.Patience, 50*time.Millisecond, "waited for the upload to begin")
	hangs.Lock()
	t.Cleanup(release)
	require.NoError(t, pipe.Close()) // its end waits for the store
	answers := func(args ...string) string {
		run := p.Command(args...)
		began := time.Now()
		out, _ := run.CombinedOutput()
		assert.Less(t, time.Since(began), 15*time.Second, "%v must not wait for the store's own patience", args)
		return string(out)
	}
	require.Eventually(t, func() bool { return strings.Contains(answers("store", "list"), "does not answer") }, testkit.Patience, 200*time.Millisecond)
	assert.Contains(t, answers("status"), "does not answer")
	assert.Contains(t, answers("ready"), "does not answer")
	assert.Contains(t, answers("checkup"), "does not answer")
	require.Eventually(t, func() bool { return strings.Contains(answers("trouble", "list"), "does not answer") }, testkit.Patience, 200*time.Millisecond)
	out, err := p.SFTPBatch("mkdir goes-on", "ls").CombinedOutput()
	require.NoError(t, err, string(out))

	require.NoError(t, p.Run.Process.Signal(syscall.SIGTERM))
	began, ended := time.Now(), make(chan error, 1)
	go func() { ended <- p.Run.Wait() }()
	select {
	case err := <-ended:
		t.Log("it took", time.Since(began), err)
	case <-time.After(25 * time.Second): // the grace, and as long again as an end may take
		t.Error("the service does not end")
		p.Run.Process.Kill()
	}
	release()
	waits.Wait()
}
