package service_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/browser"
	"urbankeep/internal/testkit"
	"urbankeep/internal/web/api"
)

// page is a tab of headless Chromium on the console.
type page struct {
	t   *testing.T
	tab context.Context
}

func openBrowser(t *testing.T) *page {
	tab, cancel, err := browser.Open(context.Background())
	require.NoError(t, err)
	t.Cleanup(cancel)
	return &page{t, tab}
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, stop := context.WithTimeout(p.tab, 30*time.Second)
	defer stop()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(p.tab, chromedp.Text(chromedp.CSS("body")))
		require.NoError(p.t, err, "the page shows: %s", text)
	}
}

func (p *page) see(css string) { p.t.Helper(); p.do(chromedp.WaitVisible(chromedp.CSS(css))) }

func (p *page) fill(css, text string) {
	p.t.Helper()
	p.do(chromedp.WaitVisible(chromedp.CSS(css)), chromedp.SendKeys(chromedp.CSS(css), text))
}

// settle is longer than any panel takes to slide in: a click goes to a place.
const settle = 350 * time.Millisecond

// press clicks the button that says text.
func (p *page) press(text string) {
	p.t.Helper()
	p.do(chromedp.Sleep(settle), chromedp.Click(chromedp.Search(fmt.Sprintf("//button[normalize-space()=%q]", text))))
}

func (p *page) text(css string) string {
	p.t.Helper()
	text, err := chromedp.Run(p.tab, chromedp.Text(chromedp.CSS(css)))
	require.NoError(p.t, err)
	return text
}

// shows waits until a part of the page says text.
func (p *page) shows(css, text string) {
	p.t.Helper()
	require.Eventually(p.t, func() bool { return strings.Contains(p.text(css), text) }, 15*time.Second, 50*time.Millisecond, text)
}

func TestTheConsoleFromTheSetUpLinkToALiveTransfer(t *testing.T) {
	k := testkit.Start(t)
	p := openBrowser(t)
	link, err := k.SetupLink(t.Context())
	require.NoError(t, err)

	// The set-up link makes the first operator and signs it in.
	p.do(chromedp.Navigate(link))
	p.fill("input[name=operator]", "ilse")
	p.fill("input[name=password]", testkit.Password)
	p.press("Make the operator and sign in")
	p.shows("nav", "ilse, owner")
	p.shows("main", "Nobody is signed in.")

	// An account with a generated password, which is shown once.
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/accounts"))
	p.shows("main", "No account yet.")
	p.press("Add an account")
	p.fill(".drawer input[name=name]", "../crew")
	p.press("Add the account")
	p.shows(".drawer [role=alert]", "can't be used")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('.drawer input[name=name]').select()`))
	p.fill(".drawer input[name=name]", "crew-harbour")
	p.press("Add the account")
	p.see(".drawer code")
	password := p.text(".drawer code")
	require.Len(t, password, 23)
	p.press("I have it")
	p.shows(".drawer", "SSH keys")

	// A private key is refused, a public one is taken.
	file := k.Key("crew-harbour")
	k.Must(nil, "key", "remove", "crew-harbour", "1")
	p.do(chromedp.Reload())
	p.shows(".drawer", "None.")
	p.press("Add a key")
	p.fill(".drawer textarea[name=newKey]", string(onDisk(t, file)))
	p.press("Add the key")
	p.shows(".drawer [role=alert]", "PRIVATE key")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('.drawer textarea[name=newKey]').select()`))
	p.fill(".drawer textarea[name=newKey]", strings.TrimSpace(string(onDisk(t, file+".pub"))))
	p.press("Add the key")
	p.shows(".drawer", "SHA256:")
	out, err := k.SFTP("crew-harbour", file, "ls")
	require.NoError(t, err, out)

	// A pair is made for who can't, and a host key is replaced.
	p.press("Make a key pair")
	p.press("Confirm")
	p.shows(".drawer .once", "Save crew-harbour.key")
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/settings"))
	p.see("table[aria-label='Host keys'] tbody tr")
	p.press("Make and announce a key")
	p.shows("table[aria-label='Host keys']", "announced")
	p.press("Put in use")
	p.press("Confirm")
	p.shows("table[aria-label='Host keys']", "retired")

	// A listener is stopped and started again; a bad address is said.
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/settings/sftp"))
	p.see(".drawer input[name=address]")
	p.press("Stop")
	p.shows("table[aria-label=Listeners]", "stopped")
	p.press("Start")
	p.shows(".drawer", "Stop")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('.drawer input[name=address]').select()`))
	p.fill(".drawer input[name=address]", "nowhere")
	p.press("Save")
	p.shows(".drawer [role=alert]", "no address with a port")

	// The overview moves by itself.
	p.do(chromedp.Click(chromedp.Search("//nav//a[text()='Overview']")))
	p.shows("main", "Newest transfers")
	upload, _ := testkit.File(t, 100_000)
	out, err = testkit.Run(t, "", "curl", "-sS", "-k", "--user", "crew-harbour:"+password, "-T", upload, "ftps://"+k.Address("ftps")+"/live.las")
	require.NoError(t, err, out)
	p.shows("table[aria-label='Newest transfers']", "/live.las")
	c := dialAs(t, k.Address("ftps"), "crew-harbour", password)
	p.shows("table[aria-label='Live sessions']", "crew-harbour")
	c.say("QUIT", 221)
	p.shows("main", "Nobody is signed in.")

	// Suspend, and find it in the trail.
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/accounts/crew-harbour"))
	p.press("Suspend")
	p.shows(".drawer", "suspended")
	var a api.Account
	k.Must(&a, "account", "show", "crew-harbour")
	assert.EqualValues(t, "suspended", a.State)
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/audit?action=account-suspend"))
	p.shows("table[aria-label='Audit records']", "operator ilse")
	p.press("Verify the chain")
	p.shows("body", "The chain holds")

	// After signing out there is nothing to see.
	p.press("Sign out")
	p.see("input[name=password]")
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/accounts"))
	p.shows("h1", "Sign in")
}
