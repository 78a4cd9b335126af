package stores_test

import (
	"bytes"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/demo"
	"urbankeep/tests/testkit"
)

// A store moves while people upload, change and remove: whatever was acknowledged before is in the new one, and
// nothing else.
func TestAStoreMovesWhileTheServiceRuns(t *testing.T) {
	t.Parallel()
	k := testkit.Start(t)
	k.Must(nil, "store", "add", "safe", t.TempDir(), "-kind", "sealed")
	k.Must(nil, "group", "add", "crews", "-mount", "/=files:crews/{account}")
	k.Account("ann", "-quota-bytes", "1G")
	k.Account("ben", "-home", "safe:ben")
	assert.Contains(t, k.Refused("store", "move", "files", "safe", "-meant"), "in use by the mounts of")
	k.Must(nil, "account", "delete", "ben")
	file, content := testkit.File(t, 700_000)
	for i := range 30 {
		require.NoError(t, os.MkdirAll(filepath.Join(k.Home("ann"), fmt.Sprint("dir ", i%3)), 0o750))
		require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), fmt.Sprint("dir ", i%3), fmt.Sprint("f", i)), content[:i*20_000], 0o640))
	}
	require.NoError(t, os.Symlink("dir 0/f3", filepath.Join(k.Home("ann"), "link")))
	stop := make(chan struct{})
	done := make(chan map[string]bool)
	go func() {
		there := map[string]bool{}
		for n := 0; ; n++ {
			select {
			case <-stop:
				done <- there
				return
			default:
			}
			name := fmt.Sprint("n", n%20)
			if n%3 == 2 {
				if _, err := k.Curl("ann", "ftps", "/", "-Q", "DELE "+name, "--list-only"); err == nil {
					there[name] = false
				}
			} else if _, err := k.Curl("ann", "ftps", "/"+name, "-T", file); err == nil {
				there[name] = true
			} else {
				delete(there, name) // it may be there or not
			}
		}
	}()
	plan := k.Must(nil, "store", "move", "files", "safe", "-dry")
	assert.Contains(t, plan, "group crews, ann")
	var moved api.StoreMove
	k.Must(&moved, "store", "move", "files", "safe", "-meant")
	close(stop)
	there := <-done
	assert.Equal(t, "done", moved.Phase)
	back := filepath.Join(t.TempDir(), "back")
	for name, is := range there {
		out, err := k.Curl("ann", "ftps", "/"+name, "-o", back)
		if !is {
			assert.Error(t, err, name)
			continue
		}
		require.NoError(t, err, "%s: %s", name, out)
		assert.True(t, bytes.Equal(content, testkit.OnDisk(t, back)), name)
	}
	for i := range 30 {
		out, err := k.Curl("ann", "ftps", fmt.Sprintf("/dir%%20%d/f%d", i%3, i), "-o", back)
		require.NoError(t, err, out)
		assert.True(t, bytes.Equal(content[:i*20_000], testkit.OnDisk(t, back)), i)
	}
	out, err := k.Curl("ann", "ftps", "/link", "-o", back)
	require.NoError(t, err, out)
	var stores []api.Store
	k.Must(&stores, "store", "list")
	for _, s := range stores {
		assert.Equal(t, s.Name == "files", len(s.MountedBy) == 0, s.Name)
	}
	var quotas []api.Quota
	require.Eventually(t, func() bool {
		k.Must(&quotas, "quota", "list")
		return len(quotas) == 1 && quotas[0].Store == "safe" && !quotas[0].Counting
	}, testkit.Patience, 100*time.Millisecond, "waited for the quota to be counted in its new place")
	k.Must(nil, "store", "remove", "files")
}

// The process ends in the middle of a move: it goes on at the next start, and copies nothing twice.
func TestAMoveGoesOnAfterABreak(t *testing.T) {
	t.Parallel()
	objects, err := demo.OpenObjectStore(t.TempDir(), "city", "key")
	require.NoError(t, err)
	server := httptest.NewServer(objects)
	defer server.Close()
	data := testkit.Folder(t)
	p := testkit.Launch(t, data)
	p.CLI(nil, "secret\n", "store", "add", "cloud", "-kind", "object", "-endpoint", server.URL, "-bucket", "city", "-user", "key")
	p.AddAccount()
	_, content := testkit.File(t, 2_000_000)
	for i := range 60 {
		name := filepath.Join(data, "files", "crew-harbour", fmt.Sprint("f", i))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o750))
		require.NoError(t, os.WriteFile(name, content, 0o640))
	}
	move := p.Command("store", "move", "files", "cloud", "-meant")
	require.NoError(t, move.Start())
	require.Eventually(t, func() bool { keys, _ := objects.Objects(); return len(keys) > 10 }, testkit.Patience, 5*time.Millisecond, "waited for some files to be copied")
	require.NoError(t, p.Run.Process.Kill())
	p.Run.Wait()
	move.Wait()
	keys, _ := objects.Objects()
	require.Less(t, len(keys), 60)
	again := testkit.LaunchAgain(t, data)
	again.Key = p.Key
	var moved api.StoreMove
	again.CLI(&moved, "", "store", "move", "files")
	assert.Equal(t, "done", moved.Phase)
	assert.Positive(t, moved.SameFiles, "what was verified before is not copied again")
	out, err := again.SFTPBatch("ls -1").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, 60, strings.Count(string(out), "\nf"), string(out))
	again.Run.Process.Kill()
	again.Run.Wait()
}
