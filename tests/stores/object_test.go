package stores_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// addObject makes a bucket of Swift the store "cloud".
func addObject(t *testing.T, k *testkit.Keep, s *counterpart.Swift) {
	out, errs, status := k.CLIWith(counterpart.SwiftSecret+"\n", "store", "add", "cloud", "-kind", "object", "-endpoint", s.Site.Endpoint, "-bucket", s.Site.Bucket, "-user", s.Site.User, "-prefix", "port/selwyn")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "store cloud added")
	assert.NotContains(t, k.Must(nil, "store", "list", "-json"), counterpart.SwiftSecret+`"`)
}

func TestRealClientsOnAnObjectStore(t *testing.T) {
	t.Parallel()
	swift := counterpart.StartSwift(t, "city")
	k := testkit.Start(t)
	addObject(t, k, swift)
	round(t, k, "cloud")
}
