//go:build linux

package faults_test

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
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
	"urbankeep/tests/testkit/ftptalk"
	"urbankeep/tests/testkit/sftptalk"
)

// An account fills the disk of the data folder through a handle that it has open. What others
// try then is refused before it is done, over every wire; nobody can do what is not in the
// trail. The operator can still act, and with the disk free again the service goes on.
func TestAFullDiskMakesNoDeedsWithoutRecords(t *testing.T) {
	for _, same := range []bool{true, false} {
		t.Run(fmt.Sprintf("store on the same disk %t", same), func(t *testing.T) {
			disk := small(t, "size=40m")
			k := testkit.StartIn(t, filepath.Join(disk, "data"))
			home := "files:{account}"
			if !same {
				k.Must(nil, "store", "add", "apart", testkit.Folder(t))
				home = "apart:{account}"
			}
			for _, name := range []string{"filler", "ann", "ben"} {
				k.Account(name, "-home", home)
			}
			root := k.Home("ann")
			if !same {
				var stores api.Page[api.Store]
				k.Must(&stores.Items, "store", "list")
				root = filepath.Join(stores.Items[0].Folder, "ann")
			}
			heard := make(chan string, 1000)
			ear := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
				body, _ := io.ReadAll(r.Body)
				heard <- string(body)
			}))
			defer ear.Close()
			hears := func(what string) {
				t.Helper()
				for end := time.After(testkit.Patience); ; {
					select {
					case said := <-heard:
						if strings.Contains(said, what) {
							return
						}
					case <-end:
						t.Fatal("nobody was told of " + what)
					}
				}
			}
			k.Must(nil, "receiver", "add", "operations", ear.URL, "-private")
			k.Must(nil, "notice", "add", "house", "-events", "trail-stuck,trouble-over", "-receivers", "operations")
			r := sftptalk.Dial(t, k, "ann")
			for _, name := range []string{"/a", "/b", "/c", "/d"} {
				write(t, r, name, []byte("content of "+name))
			}
			ftp := ftptalk.As(t, k.Address("ftps"), "ben", testkit.Password)
			before := deeds(k)

			fill(t, k, disk, same)
			// The service notices with the first record that does not get through.
			done := 0
			do := func(kind byte, body ...[]byte) bool {
				ok := r.Status(kind, body...) == sftptalk.FxOK
				if ok {
					done++
				}
				return ok
			}
			for do(sftptalk.FxpMkdir, sftptalk.Str("/noticed"), sftptalk.NoAttrs()) && done < 4000 {
				do(15, sftptalk.Str("/noticed"))
			}
			t.Log("folders made and removed before it was noticed:", done)
			state := tree(t, root)
			got, _ := r.Ask(sftptalk.FxpOpen, sftptalk.Str("/a"), sftptalk.U32(sftptalk.FxfRead), sftptalk.NoAttrs())
			assert.EqualValues(t, sftptalk.FxpStatus, got, "a download")
			for what, status := range map[string]uint32{
				"delete":   r.Status(sftptalk.FxpRemove, sftptalk.Str("/b")),
				"rename":   r.Status(sftptalk.FxpRename, sftptalk.Str("/c"), sftptalk.Str("/moved")),
				"mkdir":    r.Status(sftptalk.FxpMkdir, sftptalk.Str("/new"), sftptalk.NoAttrs()),
				"truncate": r.Status(sftptalk.FxpSetstat, sftptalk.Str("/d"), sftptalk.U32(1), sftptalk.U64(0)),
				"listing":  r.Status(sftptalk.FxpOpendir, sftptalk.Str("/")),
			} {
				assert.NotEqualValues(t, sftptalk.FxOK, status, what)
			}
			code, said := ftp.Command("MKD /new")
			assert.GreaterOrEqual(t, code, 400, said)
			assert.Contains(t, strings.Join(said, " "), "audit trail can't be written")
			lock, err := http.NewRequestWithContext(t.Context(), "LOCK", "http://"+k.Address("web")+"/dav/a", strings.NewReader(`<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`))
			require.NoError(t, err)
			lock.SetBasicAuth("ann", testkit.Password)
			answer, err := http.DefaultClient.Do(lock)
			require.NoError(t, err)
			answer.Body.Close()
			assert.Contains(t, []int{http.StatusServiceUnavailable, http.StatusInsufficientStorage}, answer.StatusCode, "it is the disk that is full, and no fault of the service")
			assert.Equal(t, state, tree(t, root), "nothing was done")
			var status api.Status
			k.Must(&status, "status")
			assert.Contains(t, strings.Join(status.Problems, " "), "nothing is done")
			hears(`"type":"urbankeep.trail-stuck"`) // though it can't be recorded
			var waits api.AuditReport
			k.Must(&waits, "audit", "verify")
			assert.Zero(t, waits.BadSeq, waits.Problem)
			assert.Positive(t, waits.Waiting, "verify says that records wait in the journal")
			assert.Equal(t, done, deeds(k)-before, "a search finds what waits in the journal too")

			k.Must(nil, "account", "suspend", "filler")
			require.Eventually(t, func() bool {
				var sessions []api.Session
				k.Must(&sessions, "session", "list")
				for _, s := range sessions {
					if s.Account == "filler" {
						return false
					}
				}
				return true
			}, testkit.Patience, 20*time.Millisecond, "waited for the suspended session to end")
			if same {
				require.NoError(t, os.RemoveAll(k.Home("filler")))
			} else {
				require.NoError(t, os.Remove(filepath.Join(disk, "filling")))
			}
			require.Eventually(t, func() bool {
				return r.Status(sftptalk.FxpMkdir, sftptalk.Str("/after"), sftptalk.NoAttrs()) == sftptalk.FxOK
			}, testkit.Patience, 100*time.Millisecond, "waited for the service to go on by itself")
			hears(`"type":"urbankeep.trail-stuck.over"`)
			var report api.AuditReport
			k.Must(&report, "audit", "verify")
			assert.Zero(t, report.BadSeq, report.Problem)
			assert.Equal(t, done+1, deeds(k)-before, "each folder that was made or removed is in the trail")
			var suspended []api.AuditRecord
			require.Eventually(t, func() bool {
				k.Must(&suspended, "audit", "-action", "account-suspend")
				return len(suspended) == 1
			}, testkit.Patience, 50*time.Millisecond, "waited for the suspension to come into the trail")
		})
	}
}

// fill takes all room of the disk.
func fill(t *testing.T, k *testkit.Keep, disk string, same bool) {
	chunk := make([]byte, 32<<10)
	if same {
		r := sftptalk.Dial(t, k, "filler")
		handle := r.Open("/big", sftptalk.FxfWrite|sftptalk.FxfCreat)
		for at := 0; r.Status(sftptalk.FxpWrite, handle, sftptalk.U64(uint64(at)), sftptalk.U32(uint32(len(chunk))), chunk) == sftptalk.FxOK; at += len(chunk) {
		}
		return
	}
	sftptalk.Dial(t, k, "filler")
	f, err := os.Create(filepath.Join(disk, "filling"))
	require.NoError(t, err)
	defer f.Close()
	for err == nil {
		_, err = f.Write(chunk)
	}
}

// deeds are how many folders were made or removed, as the trail has it.
func deeds(k *testkit.Keep) int {
	var found []api.AuditRecord
	k.Must(&found, "audit", "-action", "mkdir,rmdir", "-outcome", "done", "-most", "100000")
	return len(found)
}

// tree is what lies in a folder, with sizes.
func tree(t *testing.T, root string) (all []string) {
	require.NoError(t, filepath.Walk(root, func(at string, info os.FileInfo, err error) error {
		if err == nil {
			all = append(all, fmt.Sprint(at, info.Size(), info.IsDir()))
		}
		return err
	}))
	return all
}

func write(t *testing.T, r *sftptalk.Talk, name string, content []byte) {
	handle := r.Open(name, sftptalk.FxfWrite|sftptalk.FxfCreat)
	require.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpWrite, handle, sftptalk.U64(0), sftptalk.U32(uint32(len(content))), content))
	require.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpClose, handle))
}

func TestADiskWithoutInodesIsToldAsThat(t *testing.T) {
	k := testkit.Start(t)
	disk := small(t, "size=40m,nr_inodes=20")
	k.Must(nil, "store", "add", "few", disk)
	k.Account("ann", "-home", "few:{account}")
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	said := ""
	for n := 0; n < 30 && said == ""; n++ {
		if code, lines := c.Command(fmt.Sprint("MKD d", n)); code != 257 {
			said = strings.Join(lines, " ")
		}
	}
	assert.Contains(t, said, "can't hold more files")
}

// A store whose disk is not mounted is away: nobody gets in, nothing is made in its place,
// and the books of its quotas stay as they were.
func TestAStoreThatIsAwayIsNotMadeAnew(t *testing.T) {
	place := testkit.Folder(t)
	image := filepath.Join(t.TempDir(), "image")
	if os.Geteuid() != 0 || exec.Command("losetup", "-f").Run() != nil {
		t.Skip("mounting an image needs root and loop devices")
	}
	must := func(name string, args ...string) {
		t.Helper()
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	must("truncate", "-s", "32M", image)
	must("mkfs.ext4", "-q", "-F", image)
	must("mount", "-o", "loop", image, place)
	t.Cleanup(func() { exec.Command("umount", "-l", place).Run() })
	data := testkit.Folder(t)
	k := testkit.StartIn(t, data)
	k.Must(nil, "store", "add", "plates", place)
	k.Account("ann", "-home", "plates:{account}", "-quota-bytes", "1MiB")
	write(t, sftptalk.Dial(t, k, "ann"), "/a", make([]byte, 1000))
	k.Halt(5 * time.Second)
	must("umount", place)

	k = testkit.StartIn(t, data)
	out, err := k.Curl("ann", "ftps", "/")
	assert.Error(t, err, out)
	entries, err := os.ReadDir(place)
	require.NoError(t, err)
	assert.Empty(t, entries, "nothing is made where the disk should be")
	var stores []api.Store
	k.Must(&stores, "store", "list")
	assert.Contains(t, stores[1].Away, "there is no .urbankeep-store in "+place)
	table, _, _ := k.CLI("checkup")
	assert.Contains(t, table, "mount its disk")
	var quotas []api.Quota
	k.Must(&quotas, "quota", "list")
	assert.EqualValues(t, 1000, quotas[0].Used.Bytes)
	must("mount", "-o", "loop", image, place)
	write(t, sftptalk.Dial(t, k, "ann"), "/b", make([]byte, 500))
	k.Must(&quotas, "quota", "list")
	assert.EqualValues(t, 1500, quotas[0].Used.Bytes)

	// Another disk in its place is found out, too, until somebody says that it is the one.
	require.NoError(t, os.WriteFile(filepath.Join(place, ".urbankeep-store"), []byte("a store\nnumber ANOTHER\n"), 0o600))
	_, err = k.Curl("ann", "ftps", "/")
	assert.Error(t, err)
	k.Must(nil, "store", "mark", "plates")
	_, err = k.Curl("ann", "ftps", "/")
	assert.NoError(t, err)
}

// A data folder that is moved, or copied, takes its store along.
func TestADataFolderTakesItsStoreAlong(t *testing.T) {
	data := testkit.Folder(t)
	k := testkit.StartIn(t, data)
	k.Account("ann")
	write(t, sftptalk.Dial(t, k, "ann"), "/a", []byte("content"))
	k.Halt(5 * time.Second)
	copied := filepath.Join(testkit.Folder(t), "copy")
	require.NoError(t, exec.Command("cp", "-a", data, copied).Run())
	other := testkit.StartIn(t, copied)
	write(t, sftptalk.Dial(t, other, "ann"), "/b", []byte("only in the copy"))
	assert.NoFileExists(t, filepath.Join(data, "files", "ann", "b"))
	assert.FileExists(t, filepath.Join(copied, "files", "ann", "b"))
}

// What is gone from a data folder is not replaced in silence.
func TestLostPiecesAreNamed(t *testing.T) {
	for piece, says := range map[string]string{"urbankeep.db": "its records, urbankeep.db, are gone", "hostkeys": "the host keys", "audit.key": "the key of the audit trail", "audit.journal.1": "the journal of the audit trail"} {
		t.Run(piece, func(t *testing.T) {
			data := testkit.Folder(t)
			testkit.StartIn(t, data).Halt(5 * time.Second)
			gone, err := filepath.Glob(filepath.Join(data, piece+"*"))
			require.NoError(t, err)
			require.NotEmpty(t, gone)
			for _, name := range gone {
				require.NoError(t, os.RemoveAll(name))
			}
			out, err := testkit.Run(t, "", testkit.Binary(t), "serve", "-data", data, "-console", "127.0.0.1:0")
			assert.Error(t, err)
			assert.Contains(t, out, says)
			assert.Contains(t, out, "serve -accept-loss")
			p := testkit.Launch(t, data, "-accept-loss")
			p.Run.Process.Kill()
			p.Run.Wait()
		})
	}
}

// A listener that can't listen leaves the others alone, and listens when it can.
func TestAListenerThatCannotListenLeavesTheOthersAlone(t *testing.T) {
	t.Parallel()
	data := testkit.Folder(t)
	k := testkit.StartIn(t, data)
	taken := testkit.FreeAddress(t)
	k.Must(nil, "listener", "set", "sftp", "-address", taken)
	k.Halt(5 * time.Second)
	squatter, err := net.Listen("tcp", taken)
	require.NoError(t, err)
	p := testkit.LaunchAgain(t, data)
	var status api.Status
	p.CLI(&status, "", "status")
	assert.Contains(t, strings.Join(status.Problems, " "), "listener sftp on "+taken)
	out, err := testkit.Run(t, "", testkit.Binary(t), "checkup", "-data", data)
	assert.Error(t, err)
	assert.Contains(t, out, "does not listen on "+taken)
	require.NoError(t, squatter.Close())
	require.Eventually(t, func() bool {
		p.CLI(&status, "", "status")
		return len(status.Problems) == 0
	}, testkit.Patience, 500*time.Millisecond, "waited for the listener to be tried again")
	p.Run.Process.Kill()
	p.Run.Wait()
	squatter, err = net.Listen("tcp", taken)
	require.NoError(t, err)
	defer squatter.Close()
	again := testkit.LaunchAgain(t, data, "-listener", "sftp=off")
	again.CLI(&status, "", "status")
	assert.Empty(t, status.Problems)
	again.Run.Process.Kill()
	again.Run.Wait()
}
