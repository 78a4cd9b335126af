package object_test

import (
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/demo"
	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/bucket"
	"urbankeep/internal/files/store/object"
	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/files/store/storetest"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit/counterpart"
)

// open gives a store in a bucket that a server has.
func open(t *testing.T, site keep.Site, secret string) *bucket.Bucket {
	dir := filepath.Join(t.TempDir(), "spool")
	d, err := object.Open(site, keep.Secret(secret), http.DefaultTransport)
	require.NoError(t, err)
	b := bucket.New(bucket.Setup{Driver: d, Store: "cloud", Prefix: site.Prefix, Memory: bucket.NewMemory(64 << 20), Notes: dir, Log: slog.New(slog.NewTextHandler(t.Output(), nil)),
		Scratch: func() (*scratch.File, error) { return scratch.New(dir, nil) }})
	t.Cleanup(b.Close)
	return b
}

func TestABucketOfTheStandInIsAStore(t *testing.T) {
	storetest.Run(t, storetest.Kind{Many: 2500, Large: 24 << 20, Rounds: 30, Modes: true, Open: func(t *testing.T) store.Folder {
		s, err := demo.OpenObjectStore(t.TempDir(), "city", "key")
		require.NoError(t, err)
		server := httptest.NewServer(s)
		t.Cleanup(server.Close)
		return open(t, keep.Site{Endpoint: server.URL, Bucket: "city", User: "key", Prefix: "port/selwyn"}, "secret").Root()
	}})
}

func TestABucketOfARealObjectStoreIsAStore(t *testing.T) {
	swift := counterpart.StartSwift(t, "city")
	var n atomic.Int32
	storetest.Run(t, storetest.Kind{Many: 300, Large: 24 << 20, Rounds: 8, Modes: true, Open: func(t *testing.T) store.Folder {
		site := swift.Site
		site.Prefix = fmt.Sprint("try ", n.Add(1))
		return open(t, site, counterpart.SwiftSecret).Root()
	}})
}
