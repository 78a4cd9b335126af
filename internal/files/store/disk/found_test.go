package disk_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store/disk"
	"urbankeep/internal/keep"
)

func TestAStoreIsFoundedOnlyWhereItMayBe(t *testing.T) {
	ground, elsewhere, data := t.TempDir(), t.TempDir(), t.TempDir()
	taken := []keep.Store{{Name: "files", Folder: filepath.Join(ground, "files")}}
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(ground, "out")))
	require.NoError(t, os.WriteFile(filepath.Join(ground, "file"), nil, 0o600))
	for folder, say := range map[string]string{
		"relative": "no absolute path", elsewhere: "outside of the folders that stores may use", filepath.Join(ground, "out", "x"): "outside of the folders",
		filepath.Join(ground, "..", filepath.Base(elsewhere)): "outside of the folders", ground: "overlaps with the store files", filepath.Join(ground, "files", "inner"): "overlaps with the store files",
		filepath.Join(ground, "file"): "can't be", filepath.Join(ground, "file", "x"): "can't be",
	} {
		_, err := disk.Found(folder, []string{ground}, taken, data)
		assert.ErrorContains(t, err, say, folder)
	}
	for folder, say := range map[string]string{"/": "the whole disk", data: "the data folder", filepath.Join(data, "x"): "the data folder", filepath.Dir(data): "the data folder"} {
		_, err := disk.Found(folder, nil, nil, data)
		assert.ErrorContains(t, err, say, folder)
	}
	made, err := disk.Found(filepath.Join(ground, "new", "plates", "..", "maps"), []string{ground}, taken, data)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(ground, "new", "maps"), made)
	assert.DirExists(t, made)
	_, err = disk.Found(filepath.Join(ground, "files2"), []string{ground}, taken, data)
	assert.NoError(t, err, "a name that only begins like another's")
}
