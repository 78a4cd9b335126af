//go:build linux

package dav_test

import (
	"archive/tar"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// Somebody works in the mounted folder: large files, many small ones, an archive that is unpacked, an editor that saves.
func TestAMountedFolderIsWorkedIn(t *testing.T) {
	if _, err := os.Stat("/dev/fuse"); err != nil || os.Getuid() != 0 {
		t.Skip("nothing can be mounted here")
	}
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o755))
	dir := t.TempDir()
	at, conf := filepath.Join(dir, "at"), filepath.Join(dir, "conf")
	require.NoError(t, os.Mkdir(at, 0o755))
	// The buffer of this client is smaller than what newer kernels ask it for.
	require.NoError(t, os.WriteFile(conf, []byte("buf_size 1024\ndelay_upload 0\n"), 0o600))
	out, err := run(t, dir, "ann\n"+testkit.Password+"\n", "mount", "-t", "davfs", "-o", "conf="+conf, "http://"+k.Address("web")+"/dav/", at)
	require.NoError(t, err, out)
	mounted := true
	umount := func() {
		if mounted {
			mounted = false
			out, err := run(t, dir, "", "umount", at)
			assert.NoError(t, err, out)
		}
	}
	t.Cleanup(func() {
		umount()
		exec.Command("umount", "-l", at).Run()
	})

	_, large := testkit.File(t, 64<<20)
	require.NoError(t, os.WriteFile(filepath.Join(at, "large.bin"), large, 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(at, "many"), 0o755))
	for n := range 200 {
		require.NoError(t, os.WriteFile(filepath.Join(at, "many", fmt.Sprintf("plate %03d.tif", n)), []byte(fmt.Sprint(n)), 0o644))
	}
	require.NoError(t, os.Rename(filepath.Join(at, "many"), filepath.Join(at, "plates")))
	var packed bytes.Buffer
	w := tar.NewWriter(&packed)
	for n := range 20 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: fmt.Sprintf("deep/%d/in/file", n), Size: 1, Mode: 0o644}))
		w.Write([]byte("x"))
	}
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "some.tar"), packed.Bytes(), 0o600))
	out, err = run(t, at, "", "tar", "--no-same-owner", "-xf", filepath.Join(dir, "some.tar"))
	require.NoError(t, err, out)
	// Written beside, then put into its place.
	plan := filepath.Join(at, "plan.txt")
	require.NoError(t, os.WriteFile(plan, []byte("before"), 0o644))
	require.NoError(t, os.WriteFile(plan+"~", []byte("after"), 0o644))
	require.NoError(t, os.Rename(plan+"~", plan))
	entries, err := os.ReadDir(filepath.Join(at, "plates"))
	require.NoError(t, err)
	assert.Len(t, entries, 200)
	umount() // what it still holds is sent now

	home := k.Home("ann")
	assert.True(t, bytes.Equal(large, testkit.OnDisk(t, filepath.Join(home, "large.bin"))))
	assert.Equal(t, "7", string(testkit.OnDisk(t, filepath.Join(home, "plates/plate 007.tif"))))
	assert.FileExists(t, filepath.Join(home, "deep/19/in/file"))
	assert.Equal(t, "after", string(testkit.OnDisk(t, filepath.Join(home, "plan.txt"))))
	assert.NoFileExists(t, filepath.Join(home, "plan.txt~"))
	var locks []any
	k.Must(&locks, "lock", "list")
	assert.Empty(t, locks, "its locks are gone with it")
}

// The file manager of a Linux desktop, by its own tool.
func TestADesktopsFileManagerWorks(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "one.txt"), []byte("content"), 0o600))
	script := strings.ReplaceAll(`set -e
printf 'ann\nPASSWORD\n' | gio mount DAV
gio mkdir DAVin
gio copy one.txt DAVin/one.txt
gio cat DAVin/one.txt
gio move DAVin/one.txt DAVin/two.txt
gio list DAVin
gio remove DAVin/two.txt
gio mount -u DAV
`, "DAV", "dav://"+k.Address("web")+"/dav/")
	out, err := run(t, dir, "", "dbus-run-session", "--", "sh", "-c", strings.ReplaceAll(script, "PASSWORD", testkit.Password))
	require.NoError(t, err, out)
	assert.Contains(t, out, "content")
	assert.Contains(t, out, "two.txt")
	entries, err := os.ReadDir(filepath.Join(k.Home("ann"), "in"))
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// Where files may be added and not changed, and where nothing can even be listed, a mounted disk saves files that are then whole.
func TestAMountedFolderThatOnlyTakesFiles(t *testing.T) {
	if _, err := os.Stat("/dev/fuse"); err != nil || os.Getuid() != 0 {
		t.Skip("nothing can be mounted here")
	}
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/add=add-only", "-grant", "/drop=drop-only", "-grant", "/=list")
	for _, name := range []string{"add", "drop"} {
		require.NoError(t, os.MkdirAll(filepath.Join(k.Home("ann"), name), 0o755))
	}
	dir := t.TempDir()
	at, conf := filepath.Join(dir, "at"), filepath.Join(dir, "conf")
	require.NoError(t, os.Mkdir(at, 0o755))
	require.NoError(t, os.WriteFile(conf, []byte("buf_size 1024\ndelay_upload 0\n"), 0o600))
	out, err := run(t, dir, "ann\n"+testkit.Password+"\n", "mount", "-t", "davfs", "-o", "conf="+conf, "http://"+k.Address("web")+"/dav/", at)
	require.NoError(t, err, out)
	t.Cleanup(func() { exec.Command("umount", "-l", at).Run() })
	for _, name := range []string{"add/plan.txt", "drop/scan.txt"} {
		out, err := run(t, dir, "", "sh", "-c", "echo 'content of "+name+"' > at/"+name)
		assert.NoError(t, err, out)
	}
	out, err = run(t, dir, "", "umount", at)
	require.NoError(t, err, out)
	for _, name := range []string{"add/plan.txt", "drop/scan.txt"} {
		assert.Equal(t, "content of "+name+"\n", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), name))))
	}
	var records []api.AuditRecord
	k.Must(&records, "audit", "-account", "ann", "-action", "upload", "-outcome", "done")
	assert.Len(t, records, 2, "each is one upload")
}
