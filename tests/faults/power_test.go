//go:build linux

package faults_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// disk is an ext4 file system in a file, which can lose its power at any moment: what the
// machine finds afterwards is a copy of the file, taken without a sync.
type disk struct {
	t           *testing.T
	image, root string
	cuts        int
}

func newDisk(t *testing.T) *disk {
	if os.Geteuid() != 0 || exec.Command("losetup", "-f").Run() != nil {
		t.Skip("mounting an image needs root and loop devices")
	}
	d := &disk{t: t, image: filepath.Join(t.TempDir(), "image")}
	d.run("truncate", "-s", "256M", d.image)
	d.run("mkfs.ext4", "-q", "-F", d.image)
	d.root = d.mount(d.image)
	return d
}

func (d *disk) run(name string, args ...string) {
	d.t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(d.t, err, "%s %v: %s", name, args, out)
}

func (d *disk) mount(image string) string {
	at := testkit.Folder(d.t)
	d.run("mount", "-o", "loop", image, at)
	d.t.Cleanup(func() { exec.Command("umount", "-l", at).Run() })
	return at
}

// cut is what the disk holds when the power goes now.
func (d *disk) cut() string {
	d.t.Helper()
	d.cuts++
	copied := fmt.Sprint(d.image, d.cuts)
	d.run("cp", d.image, copied)
	return d.mount(copied)
}

// The power goes right after a first start, and right after each of some changes: the
// service starts again with the keys that it had, and with every change that it
// acknowledged.
func TestAPowerCutLosesNoKeyAndNoSetting(t *testing.T) {
	d := newDisk(t)
	data := filepath.Join(d.root, "data")
	p := testkit.Launch(t, data)
	keys := func(p *testkit.Process) (prints []string) {
		var found []api.HostKey
		p.CLI(&found, "", "hostkey", "list")
		for _, k := range found {
			prints = append(prints, k.Fingerprint)
		}
		return prints
	}
	had := keys(p)
	require.Len(t, had, 3)
	cuts := []string{d.cut()}
	for n := range 3 {
		p.CLI(nil, "", "account", "add", fmt.Sprint("ann", n), "-home", "files:{account}")
		p.CLI(nil, "", "listener", "set", "sftp", "-banner", fmt.Sprint("hello ", n))
		p.CLI(nil, "", "hostkey", "make", "ed25519")
		cuts = append(cuts, d.cut())
	}
	made := keys(p)
	require.Len(t, made, 6)
	for n, root := range cuts {
		require.NoError(t, filepath.WalkDir(filepath.Join(root, "data", "hostkeys"), func(at string, e os.DirEntry, err error) error {
			if err == nil && e.Type().IsRegular() {
				info, err := e.Info()
				require.NoError(t, err)
				assert.NotZero(t, info.Size(), at)
			}
			return err
		}))
		again := testkit.Launch(t, filepath.Join(root, "data"))
		assert.Subset(t, keys(again), made[:3+n], "cut %d", n)
		var accounts []api.Account
		again.CLI(&accounts, "", "account", "list")
		assert.Len(t, accounts, n, "cut %d", n)
		if n > 0 {
			var listeners []api.Listener
			again.CLI(&listeners, "", "listener", "list")
			banners := ""
			for _, l := range listeners {
				banners += l.Banner
			}
			assert.Contains(t, banners, fmt.Sprint("hello ", n-1), "cut %d", n)
		}
		again.Run.Process.Kill()
		again.Run.Wait()
	}
	p.Run.Process.Kill()
	p.Run.Wait()
}
