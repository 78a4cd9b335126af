package portal_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/browser"
	"urbankeep/tests/testkit"
)

func (h *holder) bin() (items []api.PortalBinned) {
	h.t.Helper()
	status, text := h.do("GET", "api/v1/bin", nil)
	require.Equal(h.t, 200, status, string(text))
	var bin api.PortalBin
	require.NoError(h.t, json.Unmarshal(text, &bin))
	return bin.Items
}

// discard deletes what can be put back then, under the number that it gives.
func (h *holder) discard(path string) string {
	h.t.Helper()
	status, text := h.do("POST", "api/v1/removals", api.PortalRemoval{Path: path, Inside: true})
	require.Equal(h.t, 200, status, string(text))
	var binning api.PortalBinning
	require.NoError(h.t, json.Unmarshal(text, &binning))
	return binning.ID
}

func binned(t *testing.T, k *testkit.Keep) []string {
	found, err := filepath.Glob(filepath.Join(k.Home("ann"), ".urbankeep-bin-*"))
	require.NoError(t, err)
	return found
}

func used(k *testkit.Keep) int64 {
	var q []api.Quota
	k.Must(&q, "quota", "list")
	return int64(q[0].Used.Bytes)
}

func TestWhatIsDeletedCanBePutBack(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-quota-bytes", "20MiB", "-bin-time", "7d")
	h := in(t, k, "ann")
	for _, name := range []string{"plates/north/a.tif", "plates/b.tif", "c.tif"} {
		put(t, k, name, []byte(name))
	}
	assert.Equal(t, int64(7*24*3600), h.folder("/").BinSeconds)
	k.Must(nil, "quota", "recount", "files:ann")
	full := used(k)
	folder, file := h.discard("/plates"), h.discard("/c.tif")
	assert.Empty(t, h.folder("/").Entries)
	assert.Len(t, binned(t, k), 2)
	assert.Equal(t, full, used(k), "it counts in the quota")
	output, err := k.SFTP("ann", k.Key("ann"), "-get .urbankeep-bin-"+file+" /dev/null", "-put /dev/null .urbankeep-bin-x", "-rename .urbankeep-bin-"+file+" x", "ls -la")
	require.NoError(t, err, output)
	assert.NotContains(t, output, "-rw", "nobody sees it or can say it")
	assert.Len(t, binned(t, k), 2)
	items := h.bin()
	require.Len(t, items, 2)
	assert.Equal(t, []any{"/c.tif", false, int64(5), file, "/plates", true, folder}, []any{items[0].Path, items[0].Folder, items[0].Size, items[0].ID, items[1].Path, items[1].Folder, items[1].ID})

	// Another holder's bin is not ann's, and a script has none.
	k.Account("ben", "-bin-time", "7d")
	ben := in(t, k, "ben")
	assert.Empty(t, ben.bin())
	status, _ := ben.do("PUT", "api/v1/bin/"+file, api.PortalPutBack{})
	assert.Equal(t, 404, status)
	status, _ = ben.do("DELETE", "api/v1/bin/"+file, nil)
	assert.Equal(t, 404, status)

	// Back to its place; where that is taken, under another name.
	back := func(id, name string) (int, api.Problem) {
		status, text := h.do("PUT", "api/v1/bin/"+id, api.PortalPutBack{Name: name})
		var p api.Problem
		json.Unmarshal(text, &p)
		return status, p
	}
	put(t, k, "c.tif", []byte("another"))
	status, p := back(file, "")
	assert.Equal(t, []any{409, "already-there"}, []any{status, p.Reason})
	for _, name := range []string{"../c.tif", "a/b", "..", ".urbankeep-part-x"} {
		status, p := back(file, name)
		assert.Contains(t, []int{403, 422}, status, p)
	}
	status, p = back(file, "c (2).tif")
	require.Equal(t, 204, status, p)
	assert.Equal(t, "c.tif", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "c (2).tif"))))
	status, p = back(folder, "")
	require.Equal(t, 204, status, p)
	assert.Equal(t, "plates/north/a.tif", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "plates/north/a.tif"))))
	assert.Empty(t, h.bin())
	status, _ = back(folder, "")
	assert.Equal(t, 404, status)

	// For good: at once, or out of the bin.
	status, _ = h.do("POST", "api/v1/removals", api.PortalRemoval{Path: "/plates/b.tif", ForGood: true})
	assert.Equal(t, 204, status)
	folder = h.discard("/plates")
	status, _ = h.do("DELETE", "api/v1/bin/"+folder, nil)
	assert.Equal(t, 204, status)
	assert.Empty(t, binned(t, k))
	k.Must(nil, "quota", "recount", "files:ann")
	counted := used(k)
	assert.Equal(t, int64(len("another")+len("c.tif")), counted)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-protocol", "portal", "-action", "put-back", "-outcome", "done")
	assert.Len(t, trail, 2)
	k.Must(&trail, "audit", "-account", "ann", "-action", "rmdir", "-path", "/plates")
	require.Len(t, trail, 3)
	said := trail[0].Detail + trail[1].Detail + trail[2].Detail
	assert.Contains(t, said, "into the bin until")
	assert.Contains(t, said, "out of the bin for good")
}

func TestTheBinGivesNoMoreThanTheRightsDo(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-bin-time", "2s", "-grant", "/mixed/kept=read-only")
	for _, name := range []string{"mixed/kept/a.tif", "plates/b.tif", "c.tif"} {
		put(t, k, name, []byte(name))
	}
	h := in(t, k, "ann")
	for path, reason := range map[string]string{"/mixed": "across-mounts", "/": "", "/mixed/kept/a.tif": "no-right"} {
		status, text := h.do("POST", "api/v1/removals", api.PortalRemoval{Path: path, Inside: true})
		assert.GreaterOrEqual(t, status, 400, path)
		assert.Contains(t, string(text), reason)
	}
	assert.Empty(t, h.bin(), "what was refused is not in the bin")

	// What is asked for twice at once comes back once.
	file := h.discard("/c.tif")
	var all sync.WaitGroup
	outcomes := make([]int, 8)
	for i := range outcomes {
		all.Go(func() { outcomes[i], _ = h.do("PUT", "api/v1/bin/"+file, api.PortalPutBack{}) })
	}
	all.Wait()
	done := 0
	for _, status := range outcomes {
		if status == 204 {
			done++
		} else {
			assert.Contains(t, []int{404, 409}, status)
		}
	}
	assert.Equal(t, 1, done, outcomes)

	// Narrowed rights hold for the bin.
	folder, file := h.discard("/plates"), h.discard("/c.tif")
	k.Must(nil, "account", "set", "ann", "-grant", "/=list,download,delete,rmdir", "-bin-time", "0")
	for _, id := range []string{folder, file} {
		status, text := h.do("PUT", "api/v1/bin/"+id, api.PortalPutBack{})
		assert.Equal(t, 403, status, string(text))
	}
	assert.Len(t, h.bin(), 2)

	// A link that somebody puts there leads nowhere, and its time ends all of it.
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "theirs"), nil, 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(k.Home("ann"), ".urbankeep-bin-"+folder, "link")))
	time.Sleep(2 * time.Second)
	k.Halt(5 * time.Second)
	again := testkit.StartIn(t, k.Dir)
	for end := time.Now().Add(testkit.Patience); len(binned(t, k)) > 0; time.Sleep(20 * time.Millisecond) {
		require.Less(t, time.Now(), end, binned(t, k))
	}
	assert.FileExists(t, filepath.Join(outside, "theirs"))
	var trail []api.AuditRecord
	again.Must(&trail, "audit", "-account", "ann", "-path", "/plates", "-action", "rmdir")
	require.Len(t, trail, 2)
	assert.Contains(t, trail[0].Detail+trail[1].Detail, "its time in the bin is over")
}

func TestTheBinInABrowser(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-bin-time", "7d")
	for _, name := range []string{"alpha/one.bin", "beta.tif", "gamma.tif"} {
		put(t, k, name, []byte(name))
	}
	p := browser.On(t)
	enter(p, k, "ann", testkit.Password)
	p.Shows(".box", "beta.tif")
	p.Wait("the list to have the focus", `document.activeElement.classList.contains("list")`)
	p.Do(chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.Keys(kb.Delete)
	p.Shows("form.ask", "It can be put back for 7 days")
	looks(p, "delete")
	p.Keys(kb.Enter)
	p.Shows(".picked", "3 items are in the bin.")
	p.Shows(".none", "Nothing is here yet")
	p.Wait("the list to have the focus", `document.activeElement.classList.contains("list")`)
	p.Do(chromedp.KeyEvent("z", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.Shows(".box", "gamma.tif")
	assert.FileExists(t, filepath.Join(k.Home("ann"), "alpha/one.bin"))
	p.Wait("the list to have the focus", `document.activeElement.classList.contains("list")`)
	p.Keys("be" + kb.Delete)
	p.Shows("form.ask", "Delete beta.tif?")
	p.Keys(kb.Enter)
	p.Shows(".picked", "beta.tif is in the bin.")
	put(t, k, "beta.tif", []byte("another"))
	p.TabTo("Bin")
	p.Keys(kb.Enter)
	p.Shows(".bin", "beta.tif")
	p.TabTo("Put back")
	p.Keys(kb.Enter)
	p.Shows(".bin", "under another name")
	looks(p, "bin")
	p.Press("Put back as that")
	p.Shows(".box", "beta (2).tif")
	p.Shows(".bin", "The bin is empty.")
	assert.Equal(t, "beta.tif", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "beta (2).tif"))))
	p.Press("Bin")
	p.Wait("the bin to be closed", `!document.querySelector(".bin")`)
	script(p, `document.querySelector(".list").focus()`)
	p.Keys("ga" + kb.Delete)
	p.Press("Delete for good")
	p.Wait("it to be gone", `!document.querySelector(".box").innerText.includes("gamma.tif")`)
	assert.Empty(t, binned(t, k))
}

func TestARehearsalLeavesNothingInTheBin(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-bin-time", "7d")
	k.Must(nil, "rehearse", "ann")
	assert.Empty(t, binned(t, k))
}
