package sealed_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/disk"
	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/files/store/sealed"
	"urbankeep/internal/files/store/storetest"
)

func open(t *testing.T, dir string, key *sealed.Key, names bool, others ...string) store.Folder {
	root := func() (store.Folder, error) { return disk.Open(dir) }
	d, err := sealed.New(sealed.Setup{Key: key, SealNames: names, Recipients: others, Root: root, Scratch: func() (*scratch.File, error) { return scratch.New(filepath.Join(dir, store.SpoolName), nil) }})
	require.NoError(t, err)
	on, err := root()
	require.NoError(t, err)
	return d.Folder(on)
}

func TestASealedDiskIsAStore(t *testing.T) {
	key, err := sealed.NewKey()
	require.NoError(t, err)
	other, err := sealed.NewKey()
	require.NoError(t, err)
	if dir, err := os.MkdirTemp("/dev/shm", "sealed"); err == nil {
		t.Cleanup(func() { os.RemoveAll(dir) })
		t.Run("in memory", func(t *testing.T) {
			storetest.Run(t, storetest.Kind{Links: true, Exact: true, Modes: true, Many: 300, Large: 16 << 20, Rounds: 20, Open: func(t *testing.T) store.Folder {
				at, err := os.MkdirTemp(dir, "")
				require.NoError(t, err)
				return open(t, at, key, false)
			}})
		})
	}
	for name, sealNames := range map[string]bool{"names in clear": false, "names encrypted": true} {
		t.Run(name, func(t *testing.T) {
			storetest.Run(t, storetest.Kind{Links: true, Exact: true, Modes: true, Many: 600, Large: 24 << 20, Rounds: 30, Open: func(t *testing.T) store.Folder {
				return open(t, t.TempDir(), key, sealNames, other.Recipient())
			}})
		})
	}
}
