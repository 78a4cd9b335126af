package portal_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/browser"
	"urbankeep/tests/testkit"
)

func TestThePortalInABrowser(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-must-change")
	file, content := testkit.File(t, 200_000)
	p := browser.On(t)
	p.Do(chromedp.Navigate("http://" + k.Address("web") + "/portal/"))
	p.Fill("input[name=account]", "ann")
	p.Fill("input[name=password]", "wrong")
	p.Press("Sign in")
	p.Shows("[role=alert]", "not right")
	p.Accessible("the sign-in")
	p.Over("input[name=password]", testkit.Password)
	p.Press("Sign in")
	p.Fill("input[name=next]", "tides come and go daily")
	p.Fill("input[name=again]", "tides come and go daily")
	p.Press("Use it and sign in")

	p.Press("New folder")
	p.Fill("input[name=folder]", `plates #1 & "more"`)
	p.Press("Make it")
	p.Follow(`plates #1 & "more"/`)
	p.Shows("nav", "plates #1")
	upload := func() { p.Do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file})) }
	upload()
	p.Shows("ul.sending", "✓ uploaded")
	at := filepath.Join(k.Home("ann"), `plates #1 & "more"`, filepath.Base(file))
	assert.Equal(t, content, testkit.OnDisk(t, at))
	// One of that name is left alone until it is said.
	require.NoError(t, os.WriteFile(at, []byte("older"), 0o644))
	p.Press("Dismiss")
	upload()
	p.Shows("ul.sending", "a file of that name is there")
	assert.Equal(t, "older", string(testkit.OnDisk(t, at)))
	p.Press("Replace it")
	p.Shows("ul.sending", "✓ uploaded")
	assert.Equal(t, content, testkit.OnDisk(t, at))
	p.Press("Rename")
	p.Over("input[name=rename]", "first.tif")
	p.Do(chromedp.Evaluate[chromedp.Void](`document.querySelector("input[name=rename]").form.requestSubmit()`))
	p.Shows("table", "first.tif")
	p.Do(chromedp.EmulateViewport(390, browser.Height))
	p.Fits("the portal")
	p.Accessible("a folder")
	p.Press("Delete")
	p.Press("Delete for good")
	p.Shows(".none", "Nothing is here yet")
	assert.NoFileExists(t, filepath.Join(filepath.Dir(at), "first.tif"))
	k.Must(nil, "account", "suspend", "ann")
	p.Follow("Files")
	p.Shows("h1", "Sign in to your files")
}
