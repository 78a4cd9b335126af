package kinds_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/keep"
)

func TestMissingFoldersOfAStoreAreMadeForItsOwnUser(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "not", "there")
	root, _, err := kinds.New(t.TempDir(), nil).Open(keep.Store{Name: "files", Folder: dir}, "crews/harbour")
	require.NoError(t, err)
	defer root.Close()
	info, err := os.Stat(filepath.Join(dir, "crews", "harbour"))
	require.NoError(t, err)
	assert.Equal(t, store.FolderMode, info.Mode().Perm())
	f, err := root.Open("scan", os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	assert.FileExists(t, filepath.Join(dir, "crews", "harbour", "scan"))
}

func TestAMountCannotBeLedOutOfItsStore(t *testing.T) {
	outside, dir := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "absolute")))
	require.NoError(t, os.Symlink("../../..", filepath.Join(dir, "relative")))
	for _, folder := range []string{"absolute", "relative", "absolute/new", "relative/new", "../x", "/etc"} {
		_, _, err := kinds.New(t.TempDir(), nil).Open(keep.Store{Name: "files", Folder: dir}, folder)
		assert.Error(t, err, folder)
	}
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

func TestTheWholeStoreAndItsSpace(t *testing.T) {
	root, _, err := kinds.New(t.TempDir(), nil).Open(keep.Store{Name: "files", Folder: t.TempDir()}, ".")
	require.NoError(t, err)
	defer root.Close()
	space, err := store.SpaceOf(root)
	require.NoError(t, err)
	assert.NotZero(t, space.Bytes)
	assert.LessOrEqual(t, space.FreeBytes, space.Bytes)
	_, _, err = kinds.New(t.TempDir(), nil).Open(keep.Store{Name: "files", Folder: "/dev/null/x"}, ".")
	assert.ErrorContains(t, err, "make the folder of store files")
}
