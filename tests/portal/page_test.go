package portal_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/service"
	"urbankeep/tests/browser"
	"urbankeep/tests/testkit"
)

// enter signs an account in on the portal.
func enter(p *browser.Page, k *testkit.Keep, account, password string) {
	p.Do(chromedp.Navigate("http://" + k.Address("web") + "/portal/"))
	p.Fill("input[name=account]", account)
	p.Fill("input[name=password]", password)
	p.Press("Sign in")
}

// choose gives files to the page as if they had been picked.
func choose(p *browser.Page, files ...string) {
	p.Do(chromedp.SetUploadFiles(chromedp.CSS("input.files"), files))
}

func script(p *browser.Page, text string) { p.Do(chromedp.Evaluate[chromedp.Void](text)) }

// looks asserts that what is shown fits and is accessible, wide and narrow, light and dark.
func looks(p *browser.Page, name string) {
	for _, width := range []int64{390, browser.Width} {
		for _, dark := range []string{"true", "false"} {
			script(p, `document.documentElement.classList.toggle("dark", `+dark+`)`)
			p.Do(chromedp.EmulateViewport(width, browser.Height))
			p.Settle()
			p.Fits(name)
			p.Accessible(fmt.Sprint(name, width, dark))
		}
	}
}

func TestThePortalInABrowser(t *testing.T) {
	k := testkit.StartOn(t, testkit.Folder(t), "127.0.0.1", func(o *service.Options) { o.Program = testkit.Binary(t) })
	k.Account("ann", "-must-change")
	file, content := testkit.File(t, 200_000)
	p := browser.On(t)
	p.Do(chromedp.Navigate("http://" + k.Address("web") + "/portal/"))
	p.Fill("input[name=account]", "ann")
	p.Fill("input[name=password]", "wrong")
	p.Press("Sign in")
	p.Shows("[role=alert]", "not right")
	looks(p, "the sign-in")
	p.Over("input[name=password]", testkit.Password)
	p.Press("Sign in")
	p.Fill("input[name=next]", "tides come and go daily")
	p.Fill("input[name=again]", "tides come and go daily")
	p.Press("Use it and sign in")

	p.Press("New folder")
	p.Fill("input[name=folder]", `plates #1 & "more"`)
	p.Press("Make it")
	p.Follow(`plates #1 & "more"/`)
	p.Shows(".crumbs", "plates #1")
	choose(p, file)
	p.Shows(".sending", "✓ uploaded")
	at := filepath.Join(k.Home("ann"), `plates #1 & "more"`, filepath.Base(file))
	assert.Equal(t, content, testkit.OnDisk(t, at))
	// One of that name is left alone until it is said, or the new one gets another.
	require.NoError(t, os.WriteFile(at, []byte("older"), 0o644))
	p.Press("Dismiss")
	choose(p, file)
	p.Shows(".ask", "is there already")
	assert.Equal(t, "older", string(testkit.OnDisk(t, at)))
	looks(p, "a conflict")
	p.Press("Keep both")
	p.Shows(".sending", "✓ uploaded")
	assert.Equal(t, "older", string(testkit.OnDisk(t, at)))
	p.Press("Dismiss")
	choose(p, file)
	p.Shows(".ask", "is there already")
	p.Press("Replace it")
	p.Shows(".sending", "✓ uploaded")
	assert.Equal(t, content, testkit.OnDisk(t, at))
	entries, err := os.ReadDir(filepath.Dir(at))
	require.NoError(t, err)
	require.Len(t, entries, 2)

	// What its name or its content says is text, and nothing else.
	put(t, k, `plates #1 & "more"/<img src=x onerror="document.title='owned'">.html`, []byte("<script>document.title='owned'</script>"))
	var drawn strings.Builder
	for i := range 200 {
		fmt.Fprintf(&drawn, "line %d <script>document.title='owned'</script>\n", i)
	}
	put(t, k, `plates #1 & "more"/notes.txt`, []byte(drawn.String()))
	put(t, k, `plates #1 & "more"/page.pdf`, []byte("<script>top.document.title='owned'</script>"))
	put(t, k, `plates #1 & "more"/page.png`, []byte("<svg xmlns='http://www.w3.org/2000/svg' onload=\"document.title='owned'\"/>"))
	p.Do(chromedp.Navigate("about:blank"), chromedp.Navigate("http://"+k.Address("web")+`/portal/#/plates%20%231%20%26%20%22more%22`))
	p.Shows(".box", "notes.txt")
	p.Press("notes.txt")
	p.Shows("dialog pre", "line 199 <script>")
	looks(p, "a text")
	p.Press("Next")
	p.See("dialog iframe")
	p.Press("Next")
	p.Shows("dialog", "There is no small picture of that")
	p.Press("Close")
	p.Press("Previews")
	p.Shows(".box", "page.png")
	looks(p, "previews")
	p.Press("List")
	p.Press("What may I do here?")
	p.Shows(".why", "Upload files")
	looks(p, "a folder")
	assert.NotContains(t, p.Value("document.title"), "owned")
	k.Must(nil, "account", "suspend", "ann")
	p.Follow("Files")
	p.Shows("h1", "Sign in to your files")
}

// All that the mouse does, the keyboard does.
func TestThePortalByKeyboardAlone(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	for _, name := range []string{"alpha/inner.bin", "beta.bin", "gamma.bin", "delta.bin"} {
		put(t, k, name, []byte(name))
	}
	home := k.Home("ann")
	p := browser.On(t)
	p.Do(chromedp.Navigate("http://" + k.Address("web") + "/portal/"))
	p.See("input[name=account]")
	script(p, "document.querySelector('input[name=account]').focus()")
	p.Keys("ann\t" + testkit.Password + kb.Enter)
	p.Shows(".box", "gamma.bin")
	p.Wait("the list to have the focus", `document.activeElement.classList.contains("list")`)
	p.Keys(kb.Enter)
	p.Shows(".box", "inner.bin")
	p.Keys(kb.Backspace)
	p.Shows(".box", "gamma.bin")
	p.Keys("ga")
	p.Wait("the name to be found", `document.querySelector(".row.current .name")?.innerText === "gamma.bin"`)
	p.Keys(kb.F2)
	p.See("input[name=rename]")
	p.Keys("omega" + kb.Enter)
	p.Shows(".box", "omega.bin")
	assert.FileExists(t, filepath.Join(home, "omega.bin"))
	p.Wait("the list to have the focus", `document.activeElement.classList.contains("list")`)
	p.Keys(kb.Home + kb.ArrowDown + " " + kb.ArrowDown + " ")
	p.Shows(".picked", "2 chosen")
	p.TabTo("Move or copy")
	p.Keys(kb.Enter)
	p.Shows(".picked", "to be put down")
	script(p, `document.querySelector(".list").focus()`)
	p.Keys(kb.Home + kb.Enter)
	p.Shows(".box", "inner.bin")
	p.TabTo("Move here")
	p.Keys(kb.Enter)
	p.Shows(".box", "beta.bin")
	assert.FileExists(t, filepath.Join(home, "alpha/beta.bin"))
	assert.FileExists(t, filepath.Join(home, "alpha/delta.bin"))
	p.Wait("the list to have the focus", `document.activeElement.classList.contains("list")`)
	p.Do(chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.Shows(".picked", "3 chosen")
	p.Keys(kb.Delete)
	p.Shows("form.ask", "Delete 3 items")
	p.Keys(kb.Enter)
	p.Shows(".none", "Nothing is here yet")
	p.TabTo("Search below it")
	p.Keys(kb.Enter)
	p.See("input[name=search]")
	p.Keys("omega" + kb.Enter)
	p.Shows(".search", "Nothing found")
}

// largeMiB is the size of the upload that is cut; 5120 takes some minutes.
var largeMiB = flag.Int("large-mib", 24, "size of the upload that is cut, MiB")

// hashed is the SHA-256 of a file, which may be too large to be held.
func hashed(t *testing.T, name string) string {
	f, err := os.Open(name)
	require.NoError(t, err)
	defer f.Close()
	of := sha256.New()
	_, err = io.Copy(of, f)
	require.NoError(t, err)
	return hex.EncodeToString(of.Sum(nil))
}

// A large upload goes on after the service was away, and, in another page, after a reload; neither the page nor the service
// holds it.
func TestALargeUploadGoesOnInABrowser(t *testing.T) {
	dir, at := testkit.Folder(t), testkit.FreeAddress(t)
	start := func() *testkit.Keep {
		return testkit.StartOn(t, dir, "127.0.0.1", func(o *service.Options) { o.Console = at })
	}
	k := start()
	size := int64(*largeMiB) << 20
	k.Account("ann", "-speed-up", fmt.Sprint(size/8), "-quota-bytes", fmt.Sprint(size+size/2))
	file := filepath.Join(t.TempDir(), "large.bin")
	out, err := os.Create(file)
	require.NoError(t, err)
	_, err = io.CopyN(out, rand.NewChaCha8([32]byte{7}), size)
	require.NoError(t, err)
	require.NoError(t, out.Close())
	p := browser.On(t)
	line := testkit.NewLine(t, at)
	p.Do(chromedp.Navigate("http://" + line.Address + "/portal/"))
	p.Fill("input[name=account]", "ann")
	p.Fill("input[name=password]", testkit.Password)
	p.Press("Sign in")
	p.See("input[type=search]")
	choose(p, file)
	// A part is on the disk: it is on its way.
	come := func(least int64) {
		t.Helper()
		for end := time.Now().Add(testkit.Patience); ; time.Sleep(20 * time.Millisecond) {
			parts, _ := filepath.Glob(filepath.Join(k.Home("ann"), ".urbankeep-part-*"))
			if len(parts) == 1 {
				if info, err := os.Stat(parts[0]); err == nil && info.Size() >= least {
					return
				}
			}
			require.Less(t, time.Now(), end)
		}
	}
	come(size / 24)
	line.Cut()
	come(size / 12)
	k.Halt(5 * time.Second)
	k = start()
	p.Fill("input[name=account]", "ann")
	p.Fill("input[name=password]", testkit.Password)
	p.Press("Sign in")
	come(size / 3)
	assert.Equal(t, "true", p.Value(`String(performance.memory.usedJSHeapSize < 100 * 1048576)`), "the page holds little")
	p.Press("Pause")
	p.Shows(".sending", "paused")
	p.Do(chromedp.Evaluate[chromedp.Void]("window.onbeforeunload = null"), chromedp.Navigate("about:blank"))
	p.Do(chromedp.Navigate("http://" + line.Address + "/portal/"))
	p.Shows("[aria-label='Unfinished uploads']", filepath.Base(file))
	choose(p, file)
	// A browser computes the hash of 20 MiB a second at the least.
	for end := time.Now().Add(testkit.Patience + time.Duration(size/(20<<20))*time.Second); !strings.Contains(p.Text("[aria-label=Uploads]"), "✓ uploaded"); time.Sleep(100 * time.Millisecond) {
		require.Less(t, time.Now(), end, p.Text("[aria-label=Uploads]"))
	}
	assert.Equal(t, hashed(t, file), hashed(t, filepath.Join(k.Home("ann"), filepath.Base(file))))
	var q []api.Quota
	k.Must(&q, "quota", "list")
	assert.Equal(t, size, int64(q[0].Used.Bytes))
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	assert.Less(t, memory.HeapInuse, uint64(256<<20), "the service holds little")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-action", "upload")
	moved := int64(0)
	for _, r := range trail {
		moved += r.Bytes
	}
	assert.Less(t, moved, size+size/4, "what had come was not sent again")
}

func TestFoldersAreDraggedIn(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	from := filepath.Join(t.TempDir(), "survey")
	const many = 300
	for i := range many {
		at := filepath.Join(from, fmt.Sprintf("district-%d/street %d/plan-%03d.txt", i%3, i%7, i))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(at), 0o644))
	}
	p := browser.On(t)
	enter(p, k, "ann", testkit.Password)
	p.See(".none")
	for _, kind := range []input.DispatchDragEventType{input.DispatchDragEventTypeDragEnter, input.DispatchDragEventTypeDragOver, input.DispatchDragEventTypeDrop} {
		p.Do(func(ctx context.Context, tab *chromedp.Target) (chromedp.Void, error) {
			_, err := cdp.Call(ctx, tab, input.DispatchDragEvent, input.DispatchDragEventParams{Type: kind, X: 600, Y: 300, Data: &input.DragData{Items: []*input.DragDataItem{}, Files: []string{from}, DragOperationsMask: 1}})
			return chromedp.Void{}, err
		})
	}
	p.Shows(".sending", fmt.Sprintf("%d of %d uploaded", many, many))
	found := 0
	require.NoError(t, filepath.WalkDir(filepath.Join(k.Home("ann"), "survey"), func(at string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			found++
			assert.Equal(t, filepath.Join(from, strings.TrimPrefix(at, filepath.Join(k.Home("ann"), "survey"))), string(testkit.OnDisk(t, at)))
		}
		return err
	}))
	assert.Equal(t, many, found)
}

// A long folder is drawn as far as it is on the screen.
func TestALongFolderInABrowser(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o755))
	const many = 30_000
	for i := range many {
		f, err := os.Create(filepath.Join(k.Home("ann"), fmt.Sprintf("reading-%05d.txt", i)))
		require.NoError(t, err)
		f.Close()
	}
	p := browser.On(t)
	enter(p, k, "ann", testkit.Password)
	p.Shows(".foot", "30,000 items")
	assert.Contains(t, p.Text(".box"), "reading-00000.txt")
	script(p, `document.querySelector(".list").focus()`)
	p.Keys(kb.End)
	p.Shows(".box", "reading-29999.txt")
	assert.Less(t, len(p.Value(`[...document.querySelectorAll(".row")].map(r => "x").join("")`)), 80, "rows that are drawn")
	p.Keys("reading-12345")
	p.Wait("the name to be found", `document.querySelector(".row.current .name")?.innerText === "reading-12345.txt"`)
	p.Fill("input[type=search]", "00042")
	p.Shows(".foot", "1 item")
}

func TestAKeyIsMadeInTheBrowser(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	p := browser.On(t)
	enter(p, k, "ann", testkit.Password)
	p.Follow("My account")
	p.Press("Add a key…")
	p.Press("Make a new pair here")
	p.Wait("the pair", `document.querySelector("textarea").value.startsWith("ssh-ed25519 ")`)
	looks(p, "my account")
	p.Fill("input[name=key-label]", "laptop")
	p.Fill("input[name=key-now]", testkit.Password)
	// What is saved is kept here instead.
	script(p, `URL.createObjectURL = blob => { blob.text().then(text => window.saved = text); return "data:," }`)
	p.Press("Add it")
	p.Shows("#keys + ul", "laptop")
	p.Wait("the private half", "window.saved")
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte(p.Value("window.saved")), 0o600))
	assert.True(t, k.SFTPWith("ann", key), "a stock client signs in with it")
	p.Press("Set them up…")
	p.Shows("#codes ~ code", "")
	p.Shows("#lately ~ div", "key-add")
}

func TestAHolderSignsInByPasskey(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-second-factor", "optional")
	_, port, err := net.SplitHostPort(k.Address("web"))
	require.NoError(t, err)
	portal := "http://localhost:" + port + "/portal/"
	p := browser.On(t)
	p.Device()
	p.Do(chromedp.Navigate(portal))
	p.Press("Use a passkey")
	p.Fill("input[name=account]", "ann")
	p.Fill("input[name=password]", testkit.Password)
	p.Press("Sign in")
	p.Follow("My account")
	p.Press("Add a passkey…")
	p.Fill("input[name=passkey-label]", "laptop")
	p.Fill("input[name=passkey-now]", "wrong")
	p.Press("Add it")
	p.Shows("#passkeys ~ [role=alert]", "not the password")
	p.Over("input[name=passkey-now]", testkit.Password)
	p.Press("Add it")
	p.Shows("#passkeys + ul", "laptop")
	p.Press("Sign out")
	p.Press("Use a passkey")
	p.Shows("header", "ann")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-action", "sign-in", "-outcome", "done", "-most", "1")
	require.Len(t, trail, 1)
	assert.Equal(t, "with the passkey laptop", trail[0].Detail)
	// It opens no more than the account: not when that is suspended, nor once it is removed.
	p.Press("Sign out")
	k.Must(nil, "account", "suspend", "ann")
	p.Press("Use a passkey")
	p.Shows("[role=alert]", "not right")
	k.Must(nil, "account", "resume", "ann")
	p.Press("Use a passkey")
	p.Follow("My account")
	p.Shows("#passkeys + ul", "laptop")
	script(p, `document.querySelector("#passkeys + ul button").click()`)
	p.Shows("#passkeys ~ p", "You have none")
	p.Press("Sign out")
	p.Press("Use a passkey")
	p.Shows("[role=alert]", "not known here")
}
