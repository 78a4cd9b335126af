//go:build linux

package faults_test

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

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
	first       string // the image that it was at first
	cuts        int
}

func newDisk(t *testing.T) *disk {
	if os.Geteuid() != 0 || exec.Command("losetup", "-f").Run() != nil {
		t.Skip("mounting an image needs root and loop devices")
	}
	d := &disk{t: t, image: filepath.Join(t.TempDir(), "image")}
	d.first = d.image
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
	copied := fmt.Sprint(d.first, d.cuts)
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

// load has clients upload until the test ends, and keeps what they were told.
type load struct {
	t    *testing.T
	p    *testkit.Process
	work sync.WaitGroup
	stop atomic.Bool

	mu   sync.Mutex
	told map[string][]byte // name and content of what was acknowledged
}

func (l *load) begin(workers int) {
	outside := l.t.TempDir()
	for w := range workers {
		l.work.Go(func() {
			for n := 0; !l.stop.Load(); n++ {
				name := fmt.Sprintf("w%d-%d", w, n)
				content := bytes.Repeat([]byte(name), 1500)
				file := filepath.Join(outside, name)
				if os.WriteFile(file, content, 0o600) != nil {
					return
				}
				upload := l.p.Curl("--ftp-create-dirs", "-T", file, fmt.Sprintf("ftps://%s/d%d/%s", l.p.FTPS, n/20, name))
				if w%2 == 1 {
					upload = l.p.SFTPBatch("-mkdir x", "put "+file+" x/"+name)
				}
				if upload.Run() != nil {
					continue
				}
				at := fmt.Sprintf("d%d/%s", n/20, name)
				if w%2 == 1 {
					at = "x/" + name
				}
				l.mu.Lock()
				l.told[at] = content
				l.mu.Unlock()
			}
		})
	}
}

func (l *load) end() { l.stop.Store(true); l.work.Wait() }

func (l *load) acknowledged() map[string][]byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	return maps.Clone(l.told)
}

// The power goes again and again while four clients upload: with power mode, which is the
// usual one, each upload that was acknowledged by then is there, whole, and in the trail. The
// process is stopped for the moment in which the image is copied, so that it is of one moment.
func TestAPowerCutLosesNothingThatWasAcknowledged(t *testing.T) {
	d := newDisk(t)
	data := filepath.Join(d.root, "data")
	p := testkit.Launch(t, data)
	p.AddAccount()
	l := &load{t: t, p: p, told: map[string][]byte{}}
	l.begin(4)
	defer l.end()
	type cut struct {
		root string
		told map[string][]byte
	}
	var found []cut
	for n := range *cuts {
		require.Eventually(t, func() bool { return len(l.acknowledged()) >= 15*(n+1) }, testkit.Patience, 20*time.Millisecond, "waited for uploads")
		told := l.acknowledged()
		require.NoError(t, p.Run.Process.Signal(syscall.SIGSTOP))
		root := d.cut()
		require.NoError(t, p.Run.Process.Signal(syscall.SIGCONT))
		found = append(found, cut{root, told})
	}
	l.end()
	p.Run.Process.Kill()
	p.Run.Wait()
	for n, c := range found {
		again := testkit.LaunchAgain(t, filepath.Join(c.root, "data"))
		var moved []api.Transfer
		again.CLI(&moved, "", "transfer", "list", "-most", "100000")
		recorded := map[string]int64{}
		for _, one := range moved {
			if one.Outcome == "done" {
				recorded[one.Path] = one.Bytes
			}
		}
		for at, content := range c.told {
			text, err := os.ReadFile(filepath.Join(c.root, "data", "files", "crew-harbour", at))
			if assert.NoError(t, err, "cut %d", n) {
				assert.Equal(t, string(content), string(text), "cut %d: %s", n, at)
			}
			assert.EqualValues(t, len(content), recorded["/"+at], "cut %d: %s is in the trail", n, at)
		}
		t.Logf("cut %d: %d uploads had been acknowledged, all there", n, len(c.told))
		var report api.AuditReport
		again.CLI(&report, "", "audit", "verify")
		assert.Zero(t, report.BadSeq, report.Problem)
		again.Run.Process.Kill()
		again.Run.Wait()
	}
}
