package tree_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// Starter folders are made whatever the account's rights are, each where its mount
// leads, and what is there already stays.
func TestStarterFoldersAreMadeWhereTheirMountsLead(t *testing.T) {
	tr, jail, _ := plant(t, []keep.Mount{{At: "/shared", Store: "files", Folder: "common", Umask: new(keep.Mode(0o002))}}, keep.Grant{Path: "/", Rights: keep.Upload})
	require.NoError(t, tr.Furnish(keep.Folders{"/in/new", "/sub", "/shared/drafts/2026"}))
	for folder, mode := range map[string]os.FileMode{"in/new": 0o750, "sub": 0o755, "../common/drafts/2026": 0o775} {
		info, err := os.Stat(filepath.Join(jail, folder))
		require.NoError(t, err, folder)
		if folder != "../common/drafts/2026" { // the test's own process masks what a group may write
			assert.Equal(t, mode, info.Mode().Perm(), folder)
		}
	}
	require.NoError(t, os.Symlink("/etc", filepath.Join(jail, "sly")))
	assert.Error(t, tr.Furnish(keep.Folders{"/sly/x"}), "not by a link that leads out")
	assert.NoDirExists(t, "/etc/x")
}

func TestAnAccountsIdleTimeTakesThePlaceOfTheUsual(t *testing.T) {
	tr, _, _ := plant(t, nil)
	assert.Equal(t, time.Minute, tr.Idle(time.Minute))
	a := &keep.Account{Name: "crew", Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "crew"}}, Settings: keep.Settings{IdleTime: new(keep.Seconds(5)), Umask: new(keep.Mode(0o077))}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}}
	tr.Renew(inForce(t, a))
	assert.Equal(t, 5*time.Second, tr.Idle(time.Minute))
	f, err := tr.Open("/private", tree.OpenMode{Write: true, Create: true, Mode: 0o666})
	require.NoError(t, err)
	info, err := f.Stat()
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, f.Close())
}

// A move from one mount to another asks both for the right to, and follows no link on
// the way into another mount's folder.
func TestAMoveBetweenMountsAsksBothEnds(t *testing.T) {
	tr, jail, _ := plant(t, []keep.Mount{{At: "/shared", Store: "files", Folder: "common"}, {At: "/maps", Store: "files", Folder: "maps", ReadOnly: true}},
		keep.Grant{Path: "/", Rights: keep.Full}, keep.Grant{Path: "/shared", Rights: keep.Full &^ keep.Rename}, keep.Grant{Path: "/maps", Rights: keep.Full})
	store := filepath.Dir(jail)
	require.NoError(t, os.WriteFile(filepath.Join(store, "common", "theirs"), []byte("theirs"), 0o640))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Rename("/own", "/shared/own", false)))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Rename("/shared/theirs", "/theirs", false)))
	assert.Equal(t, keep.ReadOnlyMount, reasonOf(tr.Rename("/own", "/maps/own", false)))
	require.NoError(t, os.Symlink("../../secret-folder", filepath.Join(jail, "sub", "out")))
	require.NoError(t, os.Mkdir(filepath.Join(store, "secret-folder"), 0o750))
	assert.NotEqual(t, keep.NoReason, reasonOf(tr.Rename("/own", "/sub/out/own", false)))
	assert.FileExists(t, filepath.Join(jail, "own"))
	assert.FileExists(t, filepath.Join(store, "common", "theirs"))
	left, err := os.ReadDir(filepath.Join(store, "secret-folder"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
