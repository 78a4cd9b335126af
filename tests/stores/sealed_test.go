package stores_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

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

// After a kill in the middle of uploads neither contents nor names of files lie on the disk of a sealed store, the spool
// included; what was acknowledged is there after the next start.
func TestAfterAKillNothingOfASealedStoreLiesInClear(t *testing.T) {
	t.Parallel()
	data, folder := testkit.Folder(t), t.TempDir()
	p := testkit.Launch(t, data)
	p.CLI(nil, "", "store", "add", "safe", folder, "-kind", "sealed", "-seal-names")
	p.AddAccount()
	p.CLI(nil, "", "account", "set", "crew-harbour", "-mount", "/safe=safe:/")
	file := filepath.Join(t.TempDir(), "harbourplan")
	require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte("the harbour plan of 1874 "), 2_000_000), 0o600))
	small := filepath.Join(t.TempDir(), "deed")
	require.NoError(t, os.WriteFile(small, []byte("the harbour plan of 1874"), 0o600))
	out, err := p.SFTPBatch("mkdir safe/secretfolder", "put "+small+" safe/secretfolder/harbourplan.txt").CombinedOutput()
	require.NoError(t, err, string(out))
	var running []*exec.Cmd
	for _, args := range [][]string{{"-T", file}, {"-T", file, "-C", "5"}} {
		upload := p.Curl(append(args, "--limit-rate", "20M", "ftps://"+p.FTPS+"/safe/secretfolder/harbourplan.txt")...)
		require.NoError(t, upload.Start())
		running = append(running, upload)
	}
	require.Eventually(t, func() bool {
		spool, _ := filepath.Glob(filepath.Join(folder, ".urbankeep-spool", "*"))
		return len(spool) > 0
	}, testkit.Patience, 10*time.Millisecond, "waited for something to be under way")
	require.NoError(t, p.Run.Process.Kill())
	p.Run.Wait()
	for _, upload := range running {
		upload.Wait()
	}
	for _, word := range []string{"harbour", "1874", "secretfolder", "plan"} {
		found, err := testkit.Run(t, "", "sh", "-c", "grep -rla -- "+word+" "+folder+"; find "+folder+" -name '*"+word+"*'")
		require.NoError(t, err, found)
		assert.Empty(t, found, word)
	}
	again := testkit.LaunchAgain(t, data)
	again.Key = p.Key
	back := filepath.Join(t.TempDir(), "back")
	out, err = again.SFTPBatch("get safe/secretfolder/harbourplan.txt " + back).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "the harbour plan of 1874", string(testkit.OnDisk(t, back)))
	spool, err := filepath.Glob(filepath.Join(folder, ".urbankeep-spool", "*"))
	require.NoError(t, err)
	assert.Empty(t, spool, "what was under way is gone")
	again.Run.Process.Kill()
	again.Run.Wait()
}

// A store whose key is encrypted with a passphrase is away after a start, until somebody gives it.
func TestAPassphraseOpensASealedStoreUntilTheServiceEnds(t *testing.T) {
	t.Parallel()
	data, folder := testkit.Folder(t), t.TempDir()
	p := testkit.Launch(t, data)
	p.CLI(nil, "a long passphrase\n", "store", "add", "safe", folder, "-kind", "sealed", "-key", "passphrase")
	p.AddAccount()
	p.CLI(nil, "", "account", "set", "crew-harbour", "-mount", "/safe=safe:/")
	out, err := p.SFTPBatch("mkdir safe/deeds").CombinedOutput()
	require.NoError(t, err, string(out))
	p.Run.Process.Kill()
	p.Run.Wait()
	again := testkit.LaunchAgain(t, data)
	again.Key = p.Key
	listed, err := again.Command("store", "list").CombinedOutput()
	require.NoError(t, err)
	assert.Contains(t, string(listed), "AWAY")
	assert.Contains(t, string(listed), "store unlock safe")
	_, err = again.SFTPBatch("ls safe").CombinedOutput()
	assert.Error(t, err, "it can't be read without the passphrase")
	unlock := again.Command("store", "unlock", "safe")
	unlock.Stdin = strings.NewReader("another passphrase\n")
	said, err := unlock.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(said), "not the passphrase")
	again.CLI(nil, "a long passphrase\n", "store", "unlock", "safe")
	out, err = again.SFTPBatch("ls safe").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "deeds")
	again.Run.Process.Kill()
	again.Run.Wait()
}
