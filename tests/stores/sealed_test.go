package stores_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestRealClientsOnASealedStore(t *testing.T) {
	t.Parallel()
	for name, flags := range map[string][]string{"names in clear": nil, "names encrypted": {"-seal-names"}} {
		t.Run(name, func(t *testing.T) {
			k := testkit.Start(t)
			var made api.Store
			k.Must(&made, append([]string{"store", "add", "safe", t.TempDir(), "-kind", "sealed"}, flags...)...)
			assert.Contains(t, made.Key, "AGE-SECRET-KEY-1")
			round(t, k, "safe")
			var now []api.Store
			out := k.Must(&now, "store", "list")
			assert.NotContains(t, out, "AGE-SECRET-KEY", "it is shown once")
			require.Len(t, now, 2)
		})
	}
}
