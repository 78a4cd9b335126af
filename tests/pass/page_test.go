package pass_test

import (
	"crypto/sha256"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/browser"
	"urbankeep/tests/testkit"
)

// looks asserts that what is shown fits and is accessible, wide and narrow, light and dark.
func looks(p *browser.Page, name string) {
	for _, width := range []int64{390, browser.Width} {
		for _, dark := range []string{"true", "false"} {
			p.Do(chromedp.Evaluate[chromedp.Void](`document.documentElement.classList.toggle("dark", `+dark+`)`), chromedp.EmulateViewport(width, browser.Height))
			p.Settle()
			p.Fits(name)
			p.Accessible(name)
		}
	}
}

func TestALinkInABrowser(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-passes", "both")
	put(t, k, "plates/one.tif", []byte("one"))
	p := browser.On(t)

	// A holder makes both kinds.
	p.Do(chromedp.Navigate("http://" + k.Address("web") + "/portal/#/plates"))
	p.Fill("input[name=account]", "ann")
	p.Fill("input[name=password]", testkit.Password)
	p.Press("Sign in")
	p.Shows(".box", "one.tif")
	p.Tick(".box input[type=checkbox]")
	p.Press("Make a link")
	looks(p, "make a link")
	p.Fill("input[name=pass-password]", "correct horse 7")
	p.Press("Make the link")
	p.See("pre.link")
	fetch := p.Text("pre.link")
	p.Press("Done")
	p.Press("Ask for files")
	p.Press("Make the link")
	p.See("pre.link")
	drop := p.Text("pre.link")
	p.Press("Done")

	// Somebody fetches with its password.
	p.Do(chromedp.Navigate(fetch))
	looks(p, "password")
	p.Fill("input[name=password]", "wrong")
	p.Press("Open")
	p.Shows("[role=alert]", "That is not the password")
	p.Fill("input[name=password]", "correct horse 7")
	p.Press("Open")
	p.Shows("table", "one.tif")
	looks(p, "fetch")

	// Somebody leaves a large file, with a cut, and says who they are.
	file := filepath.Join(t.TempDir(), "survey.laz")
	out, err := os.Create(file)
	require.NoError(t, err)
	_, err = io.CopyN(out, rand.NewChaCha8([32]byte{3}), 20<<20)
	require.NoError(t, err)
	require.NoError(t, out.Close())
	p.Do(chromedp.Navigate(drop))
	looks(p, "drop")
	p.Do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}))
	p.Fill("input[name=name]", "Jo Gull")
	p.Press("Send")
	p.Shows("#own", "survey.laz")
	want, got := testkit.OnDisk(t, file), testkit.OnDisk(t, filepath.Join(k.Home("ann"), "plates/survey.laz"))
	assert.Equal(t, sha256.Sum256(want), sha256.Sum256(got))
	p.Do(chromedp.Navigate(drop))
	p.Shows("#own", "survey.laz")
	looks(p, "dropped")

	// The holder sees who, and ends it.
	p.Do(chromedp.Navigate("http://" + k.Address("web") + "/portal/#passes"))
	p.Shows("main", "used 1 times")
	p.Press("Who used it")
	p.Shows(".uses", "by Jo Gull")
	looks(p, "passes")
	p.Press("End it")
	p.Shows("main", "ended")
	p.Do(chromedp.Navigate(drop))
	p.Shows("h1", "This link has ended")
	looks(p, "ended")
}

// A browser without scripts and pictures.
func TestALinkInATextBrowser(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	put(t, k, "plates/one.tif", []byte("content of one"))
	put(t, k, "plates/north/deep.tif", nil)
	dir := t.TempDir()
	read := func(args ...string) string {
		run := exec.Command("w3m", append([]string{"-config", "/dev/null"}, args...)...)
		run.Env = append(os.Environ(), "HOME="+dir, "TERM=dumb")
		out, err := run.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	fetch := made(t, k, "/plates", "-text", "For the bureau").Link
	page := read("-dump", fetch)
	for _, text := range []string{"Files for you", "For the bureau", "one.tif", "north/", "Download all as ZIP", "This link ends on", "curl -OJ"} {
		assert.Contains(t, page, text)
	}
	assert.Equal(t, "content of one", read("-dump_source", fetch+"0/plates/one.tif"))
	assert.Contains(t, read("-dump", fetch+"0/plates/north/"), "deep.tif")
	page = read("-dump", made(t, k, "/plates", "-drop", "-asks").Link)
	for _, text := range []string{"Leave files", "Your name", "Files", "curl -T FILE"} {
		assert.Contains(t, page, text)
	}
}
