package stores_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

func TestRealClientsOnAContainerOfBlobs(t *testing.T) {
	t.Parallel()
	emulator := counterpart.StartAzurite(t, "city")
	k := testkit.Start(t)
	_, errs, status := k.CLIWith(counterpart.AzuriteSecret+"\n", "store", "add", "vault", "-kind", "blob", "-endpoint", emulator.Site.Endpoint, "-bucket", emulator.Site.Bucket, "-user", emulator.Site.User)
	require.Zero(t, status, errs)
	round(t, k, "vault")
}
