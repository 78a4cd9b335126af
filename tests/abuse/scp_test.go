//go:build linux

package abuse_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/sftptalk"
)

// oldCopy begins a command of the old copy protocol; what comes is read by nobody but the test.
func oldCopy(t *testing.T, client *ssh.Client, command string) (in io.WriteCloser, out io.Reader, ended func() error) {
	session, err := client.NewSession()
	require.NoError(t, err)
	t.Cleanup(func() { session.Close() })
	in, err = session.StdinPipe()
	require.NoError(t, err)
	out, err = session.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, session.Start(command))
	return in, out, session.Wait
}

// Clients that go deep into folders and stay there hold one open folder a level, in as many sessions as one connection may have; a transfer
// on which nothing moves ends when an operator ends it, or when it was idle for too long. All of it is given back.
func TestWhatOldCopiesHoldIsGivenBack(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-protocols", "all,scp", "-idle-time", "6s")
	deep := filepath.Join(k.Home("ann"), strings.Repeat("d/", 80))
	require.NoError(t, os.MkdirAll(deep, 0o750))
	open := func() (n int) { // of the account's folders and files
		found, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		for _, one := range found {
			if to, err := os.Readlink(filepath.Join("/proc/self/fd", one.Name())); err == nil && strings.HasPrefix(to, k.Home("ann")) {
				n++
			}
		}
		return n
	}
	client := sftptalk.SSH(t, k, "ann")
	for range 10 {
		in, out, _ := oldCopy(t, client, "scp -r -f d")
		_, err := in.Write(make([]byte, 60)) // so deep, and not back
		require.NoError(t, err)
		_, err = io.ReadFull(out, make([]byte, 50*len("D0750 0 d\n")))
		require.NoError(t, err)
	}
	assert.Greater(t, open(), 10*50)
	assert.Less(t, open(), 10*70, "a descriptor a level")
	client.Wait() // idle for too long

	// An operator ends a transfer whose client is silent.
	client = sftptalk.SSH(t, k, "ann")
	in, out, ended := oldCopy(t, client, "scp -t half")
	_, err := fmt.Fprint(in, "C0644 1000000 half\nsome of it")
	require.NoError(t, err)
	_, err = io.ReadFull(out, make([]byte, 2))
	require.NoError(t, err)
	var running []api.Transfer
	require.Eventually(t, func() bool {
		running = k.Transfers("-account", "ann")
		return len(running) == 1
	}, testkit.Patience, 50*time.Millisecond)
	k.Must(nil, "transfer", "end", running[0].ID)
	assert.Error(t, ended())
	var records []api.AuditRecord
	recorded := func(at string) {
		require.Eventually(t, func() bool {
			k.Must(&records, "audit", "-account", "ann", "-path", at)
			return len(records) == 1
		}, testkit.Patience, 50*time.Millisecond, "waited for the record of %s", at)
	}
	recorded("/half")
	assert.Equal(t, "interrupted: ended-by-operator", fmt.Sprint(records[0].Outcome, ": ", records[0].Reason))

	// One that sends nothing more ends by itself; one that is suspended ends at once.
	in, out, ended = oldCopy(t, client, "scp -t silent")
	_, err = fmt.Fprint(in, "C0644 1000000 silent\nsome of it")
	require.NoError(t, err)
	_, err = io.ReadFull(out, make([]byte, 2))
	require.NoError(t, err)
	assert.Error(t, ended())
	recorded("/silent")
	assert.Equal(t, "interrupted: stalled", fmt.Sprint(records[0].Outcome, ": ", records[0].Reason))
	client = sftptalk.SSH(t, k, "ann")
	in, out, ended = oldCopy(t, client, "scp -t suspended")
	_, err = fmt.Fprint(in, "C0644 1000000 suspended\n")
	require.NoError(t, err)
	_, err = io.ReadFull(out, make([]byte, 2))
	require.NoError(t, err)
	k.Must(nil, "account", "suspend", "ann")
	assert.Error(t, ended())
	require.Eventually(t, func() bool { return open() == 0 }, testkit.Patience, 100*time.Millisecond, "waited for the descriptors to come back")
}
