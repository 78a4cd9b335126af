package blob_test

import (
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/blob"
	"urbankeep/internal/files/store/bucket"
	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/files/store/storetest"
	"urbankeep/tests/testkit/counterpart"
)

func TestAContainerOfBlobsIsAStore(t *testing.T) {
	emulator := counterpart.StartAzurite(t, "city")
	var n atomic.Int32
	storetest.Run(t, storetest.Kind{Many: 300, Large: 24 << 20, Rounds: 15, Modes: true, Refuses: blob.Refuses, Open: func(t *testing.T) store.Folder {
		dir := filepath.Join(t.TempDir(), "spool")
		d, err := blob.Open(emulator.Site, counterpart.AzuriteSecret, http.DefaultTransport)
		require.NoError(t, err)
		b := bucket.New(bucket.Setup{Driver: d, Store: "vault", Prefix: fmt.Sprint("try ", n.Add(1)), Refuses: blob.Refuses, Memory: bucket.NewMemory(64 << 20), Notes: dir, Log: slog.New(slog.NewTextHandler(t.Output(), nil)),
			Scratch: func() (*scratch.File, error) { return scratch.New(dir, nil) }})
		t.Cleanup(b.Close)
		return b.Root()
	}})
}
