package stores_test

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// The trail has the hash of what was uploaded whole, by any protocol, and of nothing else.
func TestTheTrailHasTheHashOfWholeUploads(t *testing.T) {
	t.Parallel()
	k := testkit.Start(t)
	k.Account("ann")
	key := k.Key("ann")
	file, content := testkit.File(t, 3_000_001)
	out, err := k.Curl("ann", "ftps", "/without", "-T", file)
	require.NoError(t, err, out)
	k.Must(nil, "store", "set", "files", "-hashes", "on")
	for _, listener := range []string{"ftp", "ftps"} {
		out, err := k.Curl("ann", listener, "/by-"+listener, "-T", file)
		require.NoError(t, err, out)
	}
	out, err = k.Curl("ann", "ftps", "/by-ftps", "-T", file, "--append")
	require.NoError(t, err, out)
	empty := filepath.Join(t.TempDir(), "empty")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	out, err = k.SFTP("ann", key, "put "+file+" by-sftp", "put "+file+" by-ftp", "put "+empty+" empty")
	require.NoError(t, err, out)
	sum := sha256.Sum256(content)
	none := sha256.Sum256(nil)
	var found []api.AuditRecord
	k.Must(&found, "audit", "-action", "upload")
	var got []string
	for _, r := range found {
		got = append(got, r.Path+" "+r.Hash)
	}
	whole := hex.EncodeToString(sum[:])
	assert.Equal(t, []string{"/empty " + hex.EncodeToString(none[:]), "/by-ftp " + whole, "/by-sftp " + whole, "/by-ftps ", "/by-ftps " + whole, "/by-ftp " + whole, "/without "}, got)
	k.Must(&found, "audit", "-text", whole)
	assert.Len(t, found, 4, "who brought these bytes can be asked")
}
