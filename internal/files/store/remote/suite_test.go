package remote_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/remote"
	"urbankeep/internal/files/store/storetest"
	"urbankeep/tests/testkit/counterpart"
)

func TestAFolderOfAnotherServerIsAStore(t *testing.T) {
	sshd := counterpart.StartSSHD(t)
	text, err := os.ReadFile(sshd.Site.KeyFile)
	require.NoError(t, err)
	key, err := ssh.ParsePrivateKey(text)
	require.NoError(t, err)
	storetest.Run(t, storetest.Kind{Links: true, Exact: true, Modes: true, Many: 600, Large: 24 << 20, Rounds: 20, Open: func(t *testing.T) store.Folder {
		site := sshd.Site
		var err error
		site.Folder, err = os.MkdirTemp(sshd.Folder, "try")
		require.NoError(t, err)
		s := remote.New("partner", site, "", key)
		t.Cleanup(s.Close)
		return s.Root()
	}})
	t.Run("links", func(t *testing.T) {
		require.NoError(t, os.Symlink("/etc", filepath.Join(sshd.Folder, "out")))
		s := remote.New("partner", sshd.Site, "", key)
		defer s.Close()
		_, err := s.Root().Cross("out/ssh")
		assert.ErrorIs(t, err, store.ErrLink)
		_, err = s.Root().Enter("out")
		assert.ErrorIs(t, err, store.ErrLink)
	})
	t.Run("another host key", func(t *testing.T) {
		site := sshd.Site
		site.HostKeys = []string{"SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"}
		s := remote.New("partner", site, "", key)
		defer s.Close()
		assert.ErrorContains(t, errors.Unwrap(s.Reach()), "is not one of those that were pinned")
	})
}
