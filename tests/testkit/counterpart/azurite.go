package counterpart

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/bloberror"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

// AzuriteSecret is the key of its account, which everybody knows.
const AzuriteSecret = "Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw=="

// Azurite is Azure's own emulator of blobs.
type Azurite struct{ Site keep.Site }

// StartAzurite starts it, with a container.
func StartAzurite(t testing.TB, name string) *Azurite {
	_, here, _, _ := runtime.Caller(0)
	program := filepath.Join(filepath.Dir(here), "node", "node_modules", "azurite", "dist", "src", "blob", "main.js")
	if _, err := os.Stat(program); err != nil {
		t.Skip("the emulator is not installed: npm ci in tests/testkit/counterpart/node")
	}
	port := strconv.Itoa(testkit.FreePorts(t))
	run := exec.Command("node", program, "--blobHost", "127.0.0.1", "--blobPort", port, "--location", t.TempDir(), "--silent", "--skipApiVersionCheck", "--disableTelemetry")
	require.NoError(t, run.Start())
	t.Cleanup(func() { run.Process.Kill(); run.Wait() })
	a := &Azurite{keep.Site{Endpoint: "http://127.0.0.1:" + port + "/devstoreaccount1", Bucket: name, User: "devstoreaccount1"}}
	key, err := container.NewSharedKeyCredential(a.Site.User, AzuriteSecret)
	require.NoError(t, err)
	c, err := container.NewClientWithSharedKeyCredential(a.Site.Endpoint+"/"+name, key, nil)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_, err := c.Create(ctx, nil)
		return err == nil || bloberror.HasCode(err, bloberror.ContainerAlreadyExists) // made by a call whose answer came too late
	}, testkit.Patience, 200*time.Millisecond, "waited for the emulator to answer")
	return a
}
