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

	"urbankeep/internal/api"
	"urbankeep/tests/browser"
	"urbankeep/tests/testkit"
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

// pressing clicks the first button or link that says a text, once it can be seen, lies under
// nothing and may be used; until then it answers what it waits for. A click is given to
// the button, not to a place: panels slide in.
const pressing = `((kind, says) => {
	const button = [...document.querySelectorAll(kind)].find(b => b.textContent.trim().replace(/\s+/g, " ") === says)
	if (!button) return "no such button"
	button.scrollIntoView({ block: "nearest", behavior: "instant" })
	const { x, y, width, height } = button.getBoundingClientRect()
	if (!button.contains(document.elementFromPoint(x + width / 2, y + height / 2))) return "hidden or covered"
	if (button.disabled) return "disabled"
	button.focus()
	button.click()
	return ""
})(%q, %q)`

// press clicks the button that says text, follow the link.
func (p *page) press(text string)  { p.t.Helper(); p.click("button", text) }
func (p *page) follow(text string) { p.t.Helper(); p.click("a", text) }

func (p *page) click(kind, text string) {
	p.t.Helper()
	waiting := ""
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		var err error
		if waiting, err = chromedp.Run(p.tab, chromedp.Evaluate[string](fmt.Sprintf(pressing, kind, text))); err == nil && waiting == "" {
			return
		}
	}
	p.t.Fatalf("the %s %q: %s", kind, text, waiting)
}

func (p *page) text(css string) string {
	p.t.Helper()
	text, err := chromedp.Run(p.tab, chromedp.Text(chromedp.CSS(css)))
	require.NoError(p.t, err)
	return text
}

// shows waits until a part of the page says text. The part may be drawn anew while
// it is being read; then it is read again.
func (p *page) shows(css, text string) {
	p.t.Helper()
	shown := ""
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		ctx, stop := context.WithTimeout(p.tab, 5*time.Second)
		now, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(css)))
		stop()
		if shown = now; err == nil && strings.Contains(now, text) {
			return
		}
	}
	require.Contains(p.t, shown, text)
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
	p.shows("main", "First operator")

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

// atTheConsole signs the first operator in; at goes to a path.
func atTheConsole(t *testing.T, k *testkit.Keep) (p *page, at func(path string)) {
	setUp(t, k, newCaller(t, k))
	p = openBrowser(t)
	at = func(path string) { p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + path)) }
	at("/")
	p.fill("input[name=operator]", "ilse")
	p.fill("input[name=password]", testkit.Password)
	p.press("Sign in")
	p.shows("nav", "ilse, owner")
	return p, at
}

// over types in place of what a field holds.
func (p *page) over(css, text string) {
	p.t.Helper()
	p.see(css)
	p.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).select()", css)))
	p.fill(css, text)
}

// The house in the console: groups, what holds and who set it, explaining and
// rehearsing, stores and quotas, and a gate that asks before it shuts its operator out.
func TestTheConsoleKeepsHouse(t *testing.T) {
	k := testkit.Start(t)
	p, at := atTheConsole(t, k)
	at("/groups")
	p.shows("main", "No group yet.")
	p.press("Add a group")
	p.fill(".drawer input[name=name]", "crews")
	p.press("Add a mount")
	p.fill(".drawer input[aria-label='Path of mount 1']", "/")
	p.over(".drawer input[aria-label='Store and folder of mount 1']", "files:{group}/{account}")
	p.press("Add a grant")
	p.fill(".drawer input[aria-label='Conditions of grant 1']", "never=*.exe")
	p.fill(".drawer input[aria-label='quota of its home']", "plenty")
	p.press("Add the group")
	p.shows(".drawer [role=alert]", "quotaBytes: \"plenty\" is no size")
	p.over(".drawer input[aria-label='quota of its home']", "1MiB")
	p.press("Add the group")
	p.shows("table[aria-label=Groups]", "quota of its home 1 MiB")

	_, errs, status := k.CLIWith(testkit.Password+"\n", "account", "add", "ann", "-password", "-group", "crews")
	require.Zero(t, status, errs)
	file, _ := testkit.File(t, 900<<10)
	at("/accounts/ann")
	p.shows(".drawer table[aria-label='Settings in force']", "group crews")
	p.shows(".drawer table[aria-label=Grants]", "never *.exe")
	p.press("Change")
	p.fill(".drawer input[aria-label='largest upload']", "2MiB")
	p.press("Save; it holds at once")
	p.shows(".drawer table[aria-label='Settings in force']", "2 MiB")
	p.over(".drawer input[name=path]", "/setup.exe")
	p.press("Explain")
	p.shows(".drawer table[aria-label=Explanation]", "does not count for a name like this")
	p.press("Rehearse")
	p.shows(".drawer [role=status]", "tries went as they should")
	k.Must(nil, "account", "set", "ann", "-rights", "full")
	out, err := k.Curl("ann", "ftps", "/f", "-T", file)
	require.NoError(t, err, out)

	at("/stores")
	p.shows("table[aria-label=Quotas]", "nearly full")
	p.shows("table[aria-label=Stores]", "group crews")
	p.fill("input[name=store]", "plates")
	p.fill("input[name=folder]", k.Dir)
	p.press("Add a store")
	p.shows("[role=alert]", "The data folder holds the records")
	p.do(chromedp.Click(chromedp.Search("//button[text()='files:crews/ann']")))
	p.press("Count it anew")
	p.shows("body", "as was known")

	at("/reports/readers?about=files:crews/ann/f")
	p.shows("table[aria-label=Report]", "the grant on / gives full")
	p.over("input[name=about]", "files:nowhere")
	p.press("Make the report")
	p.shows("main", "Nothing to tell.")
	at("/audit?text=no+such+thing")
	p.shows("main", "No record matches.")

	at("/gate")
	p.shows("table[aria-label=Rules]", "listener sftp")
	p.fill("input[name=allow]", "192.0.2.0/24")
	p.press("Save")
	p.shows("body", "You would lock yourself out")
	p.press("Leave it")
	out, err = k.Curl("ann", "ftps", "/")
	require.NoError(t, err, out)
	p.over("input[name=allow]", "127.0.0.0/8")
	p.press("Save")
	p.shows("body", "It holds for new connections")
	assert.Contains(t, k.Must(nil, "gate", "show"), "127.0.0.0/8")
}

// What moves, and what moved: a transfer that is ended with a reason, traffic drilled
// into down to the records, where records go and how long they stay.
func TestTheConsoleWatches(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "group", "add", "crews")
	k.Account("ann", "-group", "crews", "-rights", "full", "-speed-up", "256KiB")
	small, _ := testkit.File(t, 40_000)
	out, err := k.Curl("ann", "ftps", "/scan%20%3Cb%3E.las", "-T", small)
	require.NoError(t, err, out)
	large, _ := testkit.File(t, 64<<20)
	ended := make(chan error, 1)
	go func() { // ends with the transfer
		_, err := k.Curl("ann", "ftps", "/big", "-T", large)
		ended <- err
	}()

	p, at := atTheConsole(t, k)
	at("/transfers")
	p.shows("table[aria-label='Ended transfers']", "/scan <b>.las")
	p.shows("table[aria-label='Running transfers']", "/s")
	p.follow("Sessions")
	p.shows("table[aria-label='Live sessions']", "TLS_")
	p.fill("input[aria-label^='Find by account']", "nobody")
	p.shows("main", "Nobody is signed in.")
	p.follow("Transfers")
	p.press("End")
	p.fill("input[name=reason]", "the disk is checked")
	p.press("End the transfer of big")
	assert.Error(t, <-ended)
	p.shows("table[aria-label='Ended transfers']", "ended by operator")

	at("/traffic?by=group")
	p.shows("table[aria-label=Traffic]", "crews")
	p.see("[role=img] svg path") // the picture
	p.follow("by account")
	p.shows("main .head", "group crews")
	p.shows("table[aria-label=Traffic]", "ann")
	p.follow("by file")
	p.shows("table[aria-label=Traffic]", "/scan <b>.las")
	p.follow("mount")
	p.shows("table[aria-label=Traffic]", "files:ann")
	p.follow("operations")
	p.shows("table[aria-label=Traffic]", "Of all operations")
	at("/traffic?by=file&account=ann&path=/scan+%3Cb%3E.las")
	p.follow("its audit records")
	p.shows("table[aria-label='Audit records']", "/scan <b>.las")
	p.shows("main .head", "1 records")

	at("/settings")
	p.shows("main", "Records are sent nowhere.")
	p.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("h2")].find(h => h.textContent === "Syslog collector").parentElement.querySelector("button").click()`))
	p.fill("input[name=collector]", "somewhere")
	p.press("Save")
	p.shows("[role=alert]", "is no collector")
	p.over("input[name=collector]", "tcp://127.0.0.1:1")
	p.press("Save")
	p.shows("main", "waiting: ")
	p.press("Seal now")
	p.shows("body", "No record has stayed long enough.")
}
