package tree_test

import (
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// ledger takes records in memory.
type ledger struct {
	mu      sync.Mutex
	records []keep.AuditRecord
}

func (l *ledger) Announce(keep.AuditRecord, string) (func(keep.AuditRecord) error, error) {
	return l.Record, nil
}
func (l *ledger) Hold(keep.AuditRecord) (func(keep.AuditRecord) error, error) { return l.Record, nil }
func (l *ledger) Record(r keep.AuditRecord) error                             { l.Note(r); return nil }
func (l *ledger) Note(r keep.AuditRecord) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.records = append(l.records, r)
}
func (l *ledger) last() keep.AuditRecord { return l.records[len(l.records)-1] }

// unwatched is a session that nobody watches.
type unwatched struct{}

func (unwatched) Doing(keep.Action, string)              {}
func (u unwatched) Room() error                          { return nil }
func (u unwatched) Begin(tree.Transfer) tree.Meter       { return u }
func (unwatched) Reserve(n int64, _ bool) (int64, error) { return n, nil }
func (unwatched) Release(int64)                          {}
func (unwatched) Moved(int)                              {}
func (unwatched) Chunk() int                             { return 0 }
func (unwatched) Pace(int)                               {}
func (unwatched) End(keep.Outcome, keep.Reason)          {}

// house is a store in a folder, without quotas.
func house(dir string, trail tree.Trail) tree.House {
	return tree.House{Stores: []keep.Store{{Name: "files", Folder: dir}}, Ledger: quota.Unlimited(), Trail: trail}
}

func inForce(t *testing.T, a *keep.Account) *keep.Effective {
	e, err := keep.Resolve(a, nil)
	require.NoError(t, err)
	return e
}

// list reads a folder to its end.
func list(tr *tree.Tree, at string) (all []fs.FileInfo, err error) {
	l, err := tr.ReadFolder(at)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	for {
		page, err := l.Next(store.SmallRead)
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		all = append(all, page...)
	}
}

const secret = "what lies outside the jail"

// plant makes a store with a jail in it and a secret beside the jail.
func plant(t *testing.T, mounts []keep.Mount, grants ...keep.Grant) (*tree.Tree, string, *ledger) {
	dir := t.TempDir()
	jail := filepath.Join(dir, "crew")
	require.NoError(t, os.MkdirAll(filepath.Join(jail, "sub"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte(secret), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(jail, "own"), []byte("own"), 0o644))
	if grants == nil {
		grants = []keep.Grant{{Path: "/", Rights: keep.Full}}
	}
	a := &keep.Account{Name: "crew", State: keep.StateActive, Mounts: append([]keep.Mount{{At: "/", Store: "files", Folder: "{account}"}}, mounts...), Grants: grants}
	require.NoError(t, a.Check())
	l := &ledger{}
	opened, err := tree.Open(tree.Who{Account: "crew", Session: "S"}, inForce(t, a), house(dir, l), unwatched{})
	require.NoError(t, err)
	t.Cleanup(func() { opened.Close() })
	return opened, jail, l
}

func read(tr *tree.Tree, at string) (string, error) {
	f, err := tr.Open(at, tree.OpenMode{Read: true})
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.NewSectionReader(f, 0, 1<<20))
	return string(text), err
}

func put(tr *tree.Tree, at, text string) error {
	f, err := tr.Open(at, tree.OpenMode{Write: true, Create: true, Truncate: true})
	if err != nil {
		return err
	}
	if _, err := f.WriteAt([]byte(text), 0); err != nil {
		f.Abort(err)
		return err
	}
	return f.Close()
}

func reasonOf(err error) keep.Reason {
	if err == nil {
		return keep.NoReason
	}
	return keep.FaultOf(err).Reason
}

// TestEveryEscapeEndsInside tries each way out that a name or a link could be.
// The control beside each shows that the same name would leave a jail that only
// looked at the text of paths or followed links blindly.
func TestEveryEscapeEndsInside(t *testing.T) {
	for _, uniform := range []bool{true, false} { // the kernel's walk, and ours
		grants := []keep.Grant{{Path: "/", Rights: keep.Full}}
		if !uniform {
			grants = append(grants, keep.Grant{Path: "/elsewhere", Rights: keep.List})
		}
		for name, c := range map[string]struct {
			link, target string // a link to plant on the disk, behind the service's back
			path         string
		}{
			"parent":                       {path: "/../secret"},
			"many parents":                 {path: "/../../../../../../../etc/passwd"},
			"parent behind a folder":       {path: "/sub/../../secret"},
			"link to the file":             {"way", "../secret", "/way"},
			"link to the parent":           {"way", "..", "/way/secret"},
			"absolute link":                {"way", "/etc/passwd", "/way"},
			"absolute link to folder":      {"way", "/etc", "/way/passwd"},
			"link in a folder":             {"sub/way", "../../secret", "/sub/way"},
			"link and parent":              {"way", "sub/../../secret", "/way"},
			"link to a link":               {"way", "way2", "/way"},
			"link that climbs and returns": {"way", "../../" + "x/../secret", "/way"},
		} {
			t.Run(name, func(t *testing.T) {
				tr, jail, _ := plant(t, nil, grants...)
				if c.link != "" {
					require.NoError(t, os.Symlink(c.target, filepath.Join(jail, c.link)))
					require.NoError(t, os.Symlink("../secret", filepath.Join(jail, "way2")))
				}
				at, err := keep.CleanPath("/", c.path)
				require.NoError(t, err)
				text, err := read(tr, at)
				assert.Error(t, err)
				assert.NotContains(t, text, secret)
				assert.Error(t, put(tr, at+"/x", "planted"))
				if c.link != "" {
					assert.Error(t, put(tr, at, "planted"))
					_, err := tr.Stat(at)
					assert.Error(t, err)
				}
				for _, e := range []error{err} {
					assert.NotContains(t, e.Error(), jail, "a real path was told")
				}
				outside, err := os.ReadFile(filepath.Join(filepath.Dir(jail), "secret"))
				require.NoError(t, err)
				assert.Equal(t, secret, string(outside))
				if c.link != "" && !strings.HasPrefix(c.target, "/") && name != "link that climbs and returns" {
					control, err := os.ReadFile(filepath.Join(jail, c.path))
					require.NoError(t, err)
					assert.Equal(t, secret, string(control), "the control must show that the way leads out")
				}
			})
		}
	}
}

func TestLinksThatClientsMakeStayInTheTree(t *testing.T) {
	tr, jail, _ := plant(t, nil)
	for target, why := range map[string]keep.Reason{"../secret": keep.Outside, "../../etc/passwd": keep.Outside, "sub/../../x": keep.Outside} {
		assert.Equal(t, why, reasonOf(tr.Symlink(target, "/way")), target)
	}
	require.NoError(t, tr.Symlink("/own", "/sub/abs")) // absolute in the tree, stored relative
	stored, err := os.Readlink(filepath.Join(jail, "sub/abs"))
	require.NoError(t, err)
	assert.Equal(t, "../own", stored)
	text, err := read(tr, "/sub/abs")
	require.NoError(t, err)
	assert.Equal(t, "own", text)
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(jail, "real")))
	_, err = tr.Readlink("/real")
	assert.Equal(t, keep.Outside, reasonOf(err), "a real path must not be told")
}

func TestRacingRenamesNeverOpenTheOutside(t *testing.T) {
	for _, grants := range [][]keep.Grant{
		{{Path: "/", Rights: keep.Full}},
		{{Path: "/", Rights: keep.Full}, {Path: "/elsewhere", Rights: 0}},
	} {
		tr, jail, _ := plant(t, nil, grants...)
		outside := filepath.Join(filepath.Dir(jail), "outside")
		require.NoError(t, os.Mkdir(outside, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(outside, "f"), []byte(secret), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(jail, "sub", "f"), []byte("inside"), 0o644))
		require.NoError(t, os.Symlink("../outside", filepath.Join(jail, "way")))
		stop := make(chan struct{})
		var swapping sync.WaitGroup
		swapping.Go(func() { // sub is a folder inside and a link to the outside by turns
			names := [3]string{filepath.Join(jail, "sub"), filepath.Join(jail, "kept"), filepath.Join(jail, "way")}
			for {
				select {
				case <-stop:
					return
				default:
				}
				os.Rename(names[0], names[1])
				os.Rename(names[2], names[0])
				os.Rename(names[0], names[2])
				os.Rename(names[1], names[0])
			}
		})
		opened := 0
		for deadline := time.Now().Add(700 * time.Millisecond); time.Now().Before(deadline); {
			text, err := read(tr, "/sub/f")
			require.NotContains(t, text, secret)
			if err == nil {
				opened++
			}
			put(tr, "/sub/new", "new")
		}
		close(stop)
		swapping.Wait()
		assert.NotZero(t, opened, "the race never let anything through, so it proved nothing")
		_, err := os.Stat(filepath.Join(outside, "new"))
		assert.ErrorIs(t, err, os.ErrNotExist)
	}
}

func TestALinkDoesNotCarryRightsToAnotherFolder(t *testing.T) {
	tr, jail, _ := plant(t, nil, keep.Grant{Path: "/", Rights: keep.List | keep.Download}, keep.Grant{Path: "/sub", Rights: keep.Full})
	require.NoError(t, tr.Symlink("/own", "/sub/way"))
	assert.Equal(t, keep.NoRight, reasonOf(put(tr, "/sub/way", "changed")), "overwriting /own needs the right there")
	require.NoError(t, tr.Symlink("..", "/sub/up"))
	assert.Equal(t, keep.NoRight, reasonOf(put(tr, "/sub/up/new", "planted")))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Remove("/sub/up/own")))
	text, err := os.ReadFile(filepath.Join(jail, "own"))
	require.NoError(t, err)
	assert.Equal(t, "own", string(text))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Hardlink("/own", "/sub/second")), "a second name must not give more than the first")
}

func TestRightsAreAskedForByWhatHappens(t *testing.T) {
	dropped, jail, l := plant(t, nil, keep.Grant{Path: "/", Rights: keep.Upload})
	require.NoError(t, put(dropped, "/new", "reading"))
	assert.Equal(t, keep.Uploading, l.last().Action)
	assert.EqualValues(t, 7, l.last().Bytes)
	assert.Equal(t, keep.NoRight, reasonOf(put(dropped, "/own", "other")), "a file that is there needs overwrite")
	_, err := read(dropped, "/new")
	assert.Equal(t, keep.NoRight, reasonOf(err))
	assert.Equal(t, keep.Refused, l.last().Outcome)
	_, err = list(dropped, "/")
	assert.Equal(t, keep.NoRight, reasonOf(err))
	_, err = dropped.Stat("/own")
	_, err2 := dropped.Stat("/nothing")
	assert.Equal(t, reasonOf(err), reasonOf(err2), "whether a file is there must not show")
	for _, do := range []func() error{
		func() error { return dropped.Mkdir("/d", nil) }, func() error { return dropped.Remove("/own") }, func() error { return dropped.Rmdir("/sub") },
		func() error { return dropped.Rename("/own", "/x", false) }, func() error { return dropped.Symlink("own", "/l") },
		func() error { return dropped.Resize("/own", 0) }, func() error { return dropped.Touch("/own", time.Time{}, time.Now(), nil) },
	} {
		assert.Equal(t, keep.NoRight, reasonOf(do()))
		assert.Equal(t, keep.Refused, l.last().Outcome)
	}
	text, err := os.ReadFile(filepath.Join(jail, "own"))
	require.NoError(t, err)
	assert.Equal(t, "own", string(text))
}

func TestMountsAreLaidOverTheHome(t *testing.T) {
	tr, jail, _ := plant(t, []keep.Mount{{At: "/basemaps", Store: "files", Folder: "maps", ReadOnly: true}, {At: "/far/away", Store: "files", Folder: "far"}})
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(jail), "maps", "canal"), []byte("map"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(jail, "basemaps", "hidden"), 0o755))
	names := func(at string) (names []string) {
		entries, err := list(tr, at)
		require.NoError(t, err)
		for _, e := range entries {
			names = append(names, e.Name())
		}
		return names
	}
	assert.Equal(t, []string{"basemaps", "far", "own", "sub"}, names("/"))
	assert.Equal(t, []string{"canal"}, names("/basemaps"), "a mount hides what is under it")
	assert.Equal(t, []string{"away"}, names("/far"))
	assert.Equal(t, keep.ReadOnlyMount, reasonOf(put(tr, "/basemaps/new", "x")))
	assert.Equal(t, keep.ReadOnlyMount, reasonOf(tr.Remove("/basemaps/canal")))
	assert.Equal(t, keep.MountPoint, reasonOf(tr.Rmdir("/far/away")))
	assert.Equal(t, keep.MountPoint, reasonOf(tr.Rename("/far", "/near", false)))
	require.NoError(t, tr.Rename("/own", "/far/away/own", false), "from one mount to another")
	assert.FileExists(t, filepath.Join(filepath.Dir(jail), "far", "own"))
	assert.Equal(t, keep.ReadOnlyMount, reasonOf(tr.Rename("/far/away/own", "/basemaps/own", false)))
	info, err := tr.Stat("/basemaps")
	require.NoError(t, err)
	assert.Equal(t, "basemaps", info.Name(), "the folder's name on the machine must not show")
}

func TestWhatGrantsNameStaysWhereItIs(t *testing.T) {
	tr, _, _ := plant(t, nil, keep.Grant{Path: "/", Rights: keep.Full}, keep.Grant{Path: "/sub/closed", Rights: 0})
	assert.Equal(t, keep.MountPoint, reasonOf(tr.Rename("/sub", "/free", false)), "moving it would open what is closed")
	require.NoError(t, tr.Rename("/own", "/renamed", false))
	require.NoError(t, put(tr, "/second", "2"))
	assert.Equal(t, keep.AlreadyThere, reasonOf(tr.Rename("/second", "/renamed", false)))
	require.NoError(t, tr.Rename("/second", "/renamed", true))
}

func TestAPipeInTheTreeDoesNotHangAnyone(t *testing.T) {
	tr, jail, _ := plant(t, nil)
	makePipe(t, filepath.Join(jail, "pipe"))
	done := make(chan error, 1)
	go func() { _, err := read(tr, "/pipe"); done <- err }()
	select {
	case err := <-done:
		assert.Equal(t, keep.BadRequest, reasonOf(err))
	case <-time.After(10 * time.Second):
		t.Fatal("opening a pipe hangs")
	}
}
func makePipe(t *testing.T, name string) {
	out, err := exec.Command("mkfifo", name).CombinedOutput()
	require.NoError(t, err, string(out))
}
