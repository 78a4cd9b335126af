package tree_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

func namesIn(t *testing.T, tr *tree.Tree, at string) (names []string) {
	entries, err := list(tr, at)
	require.NoError(t, err)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// A filter is about what a name leads to: neither a link nor a new name carries a
// file past it.
func TestNothingCarriesAFilePastAFilter(t *testing.T) {
	tr, jail, l := plant(t, nil, keep.Grant{Path: "/", Rights: keep.Full, Never: []string{"*.exe"}})
	require.NoError(t, os.WriteFile(filepath.Join(jail, "tool.exe"), []byte("kept out"), 0o640))
	require.NoError(t, os.Symlink("tool.exe", filepath.Join(jail, "plan.tif")))
	require.NoError(t, os.Symlink("../tool.exe", filepath.Join(jail, "sub", "deep.tif")))
	for _, at := range []string{"/tool.exe", "/plan.tif", "/sub/deep.tif", "/TOOL.EXE"} {
		_, err := read(tr, at)
		assert.Contains(t, []keep.Reason{keep.NoRight, keep.NotFound}, reasonOf(err), at)
		assert.NotEqual(t, keep.NoReason, reasonOf(put(tr, at, "changed")), at)
	}
	assert.Equal(t, keep.NoRight, reasonOf(put(tr, "/new.exe", "x")))
	require.NoError(t, put(tr, "/new.tif", "x"))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Rename("/new.tif", "/new.exe", false)))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Rename("/tool.exe", "/tool.tif", false)))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Hardlink("/tool.exe", "/tool.tif")))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Hardlink("/new.tif", "/new.exe")))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Remove("/tool.exe")))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Resize("/plan.tif", 0)))
	assert.Equal(t, keep.NoRight, reasonOf(tr.Touch("/plan.tif", time.Time{}, time.Now(), nil)))
	assert.Contains(t, l.last().Detail, "never *.exe, which does not count for a name like this")
	text, err := os.ReadFile(filepath.Join(jail, "tool.exe"))
	require.NoError(t, err)
	assert.Equal(t, "kept out", string(text))
	require.NoError(t, tr.Mkdir("/set.exe", nil), "a filter is about files")
	require.NoError(t, tr.Rmdir("/set.exe"))
}

func TestListingsShowOnlyWhatMayBeListed(t *testing.T) {
	tr, jail, _ := plant(t, nil, keep.Grant{Path: "/", Rights: keep.List | keep.Download, Only: []string{"*.tif", "own"}},
		keep.Grant{Path: "/closed", Rights: 0}, keep.Grant{Path: "/drop", Rights: keep.Upload}, keep.Grant{Path: "/closed/open", Rights: keep.List})
	for _, name := range []string{"a.tif", "b.las", "closed/x", "closed/open/y", "drop/z", "plain/a.tif", "plain/b.las"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(jail, name)), 0o750))
		require.NoError(t, os.WriteFile(filepath.Join(jail, name), nil, 0o640))
	}
	require.NoError(t, os.Mkdir(filepath.Join(jail, "closed", "shut"), 0o750))
	assert.Equal(t, []string{"a.tif", "closed", "drop", "own", "plain", "sub"}, namesIn(t, tr, "/"))
	assert.Equal(t, []string{"a.tif"}, namesIn(t, tr, "/plain"))
	_, err := list(tr, "/closed")
	assert.Equal(t, keep.NoRight, reasonOf(err))
	assert.Equal(t, []string{"y"}, namesIn(t, tr, "/closed/open"))
	_, err = tr.Stat("/b.las")
	hidden := reasonOf(err)
	_, err = tr.Stat("/none.las")
	assert.Equal(t, hidden, reasonOf(err), "whether it is there can't be told")
	_, err = tr.Stat("/closed")
	assert.NoError(t, err, "a folder on the way to an open one may be entered")
}

func TestAWindowOpensAndClosesALiveTree(t *testing.T) {
	now := time.Now()
	tr, _, _ := plant(t, nil, keep.Grant{Path: "/", Rights: keep.List}, keep.Grant{Path: "/sub", Rights: keep.Full,
		Window: &keep.Window{From: keep.Moment{Time: now.Add(300 * time.Millisecond)}, Until: keep.Moment{Time: now.Add(1300 * time.Millisecond)}}})
	assert.Equal(t, keep.NoRight, reasonOf(put(tr, "/sub/early", "x")))
	require.Eventually(t, func() bool { return put(tr, "/sub/now", "x") == nil }, 900*time.Millisecond, 10*time.Millisecond)
	f, err := tr.Open("/sub/long", tree.OpenMode{Write: true, Create: true})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return reasonOf(put(tr, "/sub/late", "x")) == keep.NoRight }, 2*time.Minute, 10*time.Millisecond)
	_, err = f.WriteAt([]byte("what is open may be finished"), 0)
	assert.NoError(t, err)
	assert.NoError(t, f.Close())
}
