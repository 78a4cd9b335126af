package disk_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/disk"
	"urbankeep/internal/files/store/storetest"
)

func TestADiskIsAStore(t *testing.T) {
	for name, open := range map[string]func(string) (store.Folder, error){"descriptors": disk.OpenHere, "portable": disk.OpenRooted} {
		t.Run(name, func(t *testing.T) {
			storetest.Run(t, storetest.Kind{Links: true, Exact: true, Modes: true, Many: 2500, Large: 24 << 20, Rounds: 30, Open: func(t *testing.T) store.Folder {
				f, err := open(t.TempDir())
				require.NoError(t, err)
				return f
			}})
		})
	}
}
