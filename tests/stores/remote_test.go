package stores_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// addRemote makes a folder of OpenSSH's server the store "partner".
func addRemote(k *testkit.Keep, s *counterpart.SSHD) {
	k.Must(nil, "store", "add", "partner", s.Site.Folder, "-kind", "remote", "-endpoint", s.Site.Endpoint, "-user", s.Site.User, "-host-key", s.Site.HostKeys[0], "-key-file", s.Site.KeyFile)
}

func TestRealClientsOnAnotherServer(t *testing.T) {
	t.Parallel()
	sshd := counterpart.StartSSHD(t)
	k := testkit.Start(t)
	said := k.Refused("store", "add", "partner", sshd.Folder, "-kind", "remote", "-endpoint", sshd.Site.Endpoint, "-user", sshd.Site.User, "-host-key", "SHA256:AAAA", "-key-file", sshd.Site.KeyFile)
	assert.Contains(t, said, "is not one of those that were pinned")
	addRemote(k, sshd)
	round(t, k, "partner")
}

// The other server goes in the middle of work and comes back: what was acknowledged is there, sessions live on.
func TestAnotherServerThatGoesLosesNothingThatWasAcknowledged(t *testing.T) {
	t.Parallel()
	sshd := counterpart.StartSSHD(t)
	k := testkit.Start(t)
	addRemote(k, sshd)
	k.Account("ann", "-home", "partner:ann")
	file, content := testkit.File(t, 3_000_000)
	out, err := k.Curl("ann", "ftps", "/before", "-T", file)
	require.NoError(t, err, out)
	for range 2 {
		sshd.Kill()
		out, err = k.Curl("ann", "ftps", "/while", "-T", file)
		assert.Error(t, err)
		assert.NotContains(t, out, "226")
		require.Eventually(t, func() bool { return strings.Contains(k.Must(nil, "store", "list"), "AWAY") }, testkit.Patience, time.Second, "waited for the store to be away")
		sshd.Revive()
		require.Eventually(t, func() bool {
			_, err = k.Curl("ann", "ftps", "/after", "-T", file)
			return err == nil
		}, testkit.Patience, 500*time.Millisecond, "waited for the store to come back")
	}
	// Renames while the server goes: each file is under one of its names, and under the new one if that was said.
	for round := range 3 {
		name, moved := fmt.Sprint("/r", round), fmt.Sprint("/moved", round)
		require.Eventually(t, func() bool { // whoever found it away a moment ago does not call it at once
			_, err = k.Curl("ann", "ftps", name, "-T", file)
			return err == nil
		}, testkit.Patience, 500*time.Millisecond, "waited for the store to come back")
		gone := make(chan struct{})
		go func() {
			time.Sleep(time.Duration(round*40) * time.Millisecond)
			sshd.Kill()
			close(gone)
		}()
		_, renamed := k.Curl("ann", "ftps", "/", "-Q", "RNFR "+name, "-Q", "RNTO "+moved, "--list-only")
		<-gone
		sshd.Revive()
		there := func(at string) bool {
			_, err := os.Stat(filepath.Join(sshd.Folder, "ann", at))
			return err == nil
		}
		assert.NotEqual(t, there(name), there(moved), "it is under one name")
		if renamed == nil {
			assert.True(t, there(moved))
		}
		require.Eventually(t, func() bool {
			_, err := k.Curl("ann", "ftps", "/after", "-T", file)
			return err == nil
		}, testkit.Patience, 500*time.Millisecond, "waited for the store to come back")
	}
	out, err = k.LFTP("ann", "ftps", "mv before moved", "ls")
	require.NoError(t, err, out)
	back := filepath.Join(t.TempDir(), "back")
	for _, name := range []string{"/moved", "/after"} {
		out, err := k.Curl("ann", "ftps", name, "-o", back)
		require.NoError(t, err, out)
		assert.True(t, bytes.Equal(content, testkit.OnDisk(t, back)), name)
	}
}
