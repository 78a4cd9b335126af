package console_test

import (
	"strings"
	"testing"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/browser"
	"urbankeep/tests/testkit"
)

func TestTheConsoleFromTheSetUpLinkToALiveTransfer(t *testing.T) {
	k := testkit.Start(t)
	p := browser.On(t)
	link, err := k.SetupLink(t.Context())
	require.NoError(t, err)

	// The set-up link makes the first operator and signs it in.
	p.Do(chromedp.Navigate(link))
	p.Fill("input[name=operator]", "ilse")
	p.Fill("input[name=password]", testkit.Password)
	p.Press("Make the operator and sign in")
	p.Shows("nav", "ilse, owner")
	p.Shows("main", "First operator")

	// An account with a generated password, which is shown once.
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/accounts"))
	p.Shows("main", "No account yet.")
	p.Press("Add an account")
	p.Fill(".drawer input[name=name]", "../crew")
	p.Press("Add the account")
	p.Shows(".drawer [role=alert]", "can't be used")
	p.Over(".drawer input[name=name]", "crew-harbour")
	p.Press("Add the account")
	p.See(".drawer code")
	password := p.Text(".drawer code")
	require.Len(t, password, 23)
	p.Press("I have it")
	p.Shows(".drawer", "SSH keys")

	// A private key is refused, a public one is taken.
	file := k.Key("crew-harbour")
	k.Must(nil, "key", "remove", "crew-harbour", "1")
	p.Do(chromedp.Reload())
	p.Shows(".drawer", "None.")
	p.Press("Add a key")
	p.Fill(".drawer textarea[name=newKey]", string(testkit.OnDisk(t, file)))
	p.Press("Add the key")
	p.Shows(".drawer [role=alert]", "PRIVATE key")
	p.Over(".drawer textarea[name=newKey]", strings.TrimSpace(string(testkit.OnDisk(t, file+".pub"))))
	p.Press("Add the key")
	p.Shows(".drawer", "SHA256:")
	out, err := k.SFTP("crew-harbour", file, "ls")
	require.NoError(t, err, out)

	// A pair is made for who can't, and a host key is replaced.
	p.Press("Make a key pair")
	p.Press("Confirm")
	p.Shows(".drawer .once", "Save crew-harbour.key")
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/settings"))
	p.See("table[aria-label='Host keys'] tbody tr")
	p.Press("Make and announce a key")
	p.Shows("table[aria-label='Host keys']", "announced")
	p.Press("Put in use")
	p.Press("Confirm")
	p.Shows("table[aria-label='Host keys']", "retired")

	// A listener is stopped and started again; a bad address is said.
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/settings/sftp"))
	p.See(".drawer input[name=address]")
	p.Press("Stop")
	p.Shows("table[aria-label=Listeners]", "stopped")
	p.Press("Start")
	p.Shows(".drawer", "Stop")
	p.Over(".drawer input[name=address]", "nowhere")
	p.Press("Save")
	p.Shows(".drawer [role=alert]", "no address with a port")

	// The overview moves by itself.
	p.Follow("Overview")
	p.Shows("main", "Newest transfers")
	upload, _ := testkit.File(t, 100_000)
	out, err = testkit.Run(t, "", "curl", "-sS", "-k", "--user", "crew-harbour:"+password, "-T", upload, "ftps://"+k.Address("ftps")+"/live.las")
	require.NoError(t, err, out)
	p.Shows("table[aria-label='Newest transfers']", "/live.las")
	c := ftptalk.As(t, k.Address("ftps"), "crew-harbour", password)
	p.Shows("table[aria-label='Live sessions']", "crew-harbour")
	c.Say("QUIT", 221)
	p.Shows("main", "Nobody is signed in.")

	// Suspend, and find it in the trail.
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/accounts/crew-harbour"))
	p.Press("Suspend")
	p.Shows(".drawer", "suspended")
	var a api.Account
	k.Must(&a, "account", "show", "crew-harbour")
	assert.EqualValues(t, "suspended", a.State)
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/audit?action=account-suspend"))
	p.Shows("table[aria-label='Audit records']", "operator ilse")
	p.Press("Verify the chain")
	p.Shows("body", "The chain holds")

	// After signing out there is nothing to see.
	p.Press("Sign out")
	p.See("input[name=password]")
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/accounts"))
	p.Shows("h1", "Sign in")
}

// atTheConsole signs the first operator in; at goes to a path.
func atTheConsole(t *testing.T, k *testkit.Keep) (p *browser.Page, at func(path string)) {
	testkit.SetUp(t, k, testkit.NewCaller(t, k))
	p = browser.On(t)
	at = func(path string) { p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console" + path)) }
	at("/")
	p.Fill("input[name=operator]", "ilse")
	p.Fill("input[name=password]", testkit.Password)
	p.Press("Sign in")
	p.Shows("nav", "ilse, owner")
	return p, at
}

// The house in the console: groups, what holds and who set it, explaining and
// rehearsing, stores and quotas, and a gate that asks before it shuts its operator out.
func TestTheConsoleKeepsHouse(t *testing.T) {
	k := testkit.Start(t)
	p, at := atTheConsole(t, k)
	at("/groups")
	p.Shows("main", "No group yet.")
	p.Press("Add a group")
	p.Fill(".drawer input[name=name]", "crews")
	p.Press("Add a mount")
	p.Fill(".drawer input[aria-label='Path of mount 1']", "/")
	p.Over(".drawer input[aria-label='Store and folder of mount 1']", "files:{group}/{account}")
	p.Press("Add a grant")
	p.Fill(".drawer input[aria-label='Conditions of grant 1']", "never=*.exe")
	p.Fill(".drawer input[aria-label='quota of its home']", "plenty")
	p.Press("Add the group")
	p.Shows(".drawer [role=alert]", "quotaBytes: \"plenty\" is no size")
	p.Over(".drawer input[aria-label='quota of its home']", "1MiB")
	p.Press("Add the group")
	p.Shows("table[aria-label=Groups]", "quota of its home 1 MiB")

	_, errs, status := k.CLIWith(testkit.Password+"\n", "account", "add", "ann", "-password", "-group", "crews")
	require.Zero(t, status, errs)
	file, _ := testkit.File(t, 900<<10)
	at("/accounts/ann")
	p.Shows(".drawer table[aria-label='Settings in force']", "group crews")
	p.Shows(".drawer table[aria-label=Grants]", "never *.exe")
	p.Press("Change")
	p.Fill(".drawer input[aria-label='largest upload']", "2MiB")
	p.Press("Save; it holds at once")
	p.Shows(".drawer table[aria-label='Settings in force']", "2 MiB")
	p.Over(".drawer input[name=path]", "/setup.exe")
	p.Press("Explain")
	p.Shows(".drawer table[aria-label=Explanation]", "does not count for a name like this")
	p.Press("Rehearse")
	p.Shows(".drawer [role=status]", "tries went as they should")
	k.Must(nil, "account", "set", "ann", "-rights", "full")
	out, err := k.Curl("ann", "ftps", "/f", "-T", file)
	require.NoError(t, err, out)

	at("/stores")
	p.Shows("table[aria-label=Quotas]", "nearly full")
	p.Shows("table[aria-label=Stores]", "group crews")
	p.Fill("input[name=store]", "plates")
	p.Fill("input[name=folder]", k.Dir)
	p.Press("Add a store")
	p.Shows("[role=alert]", "The data folder holds the records")
	p.Choose("What it is", "a folder, encrypted")
	p.Over("input[name=folder]", t.TempDir())
	p.Press("Add a store")
	p.Shows(".once", "The key that opens the files of plates")
	p.Shows("table[aria-label=Stores]", "sealed")
	p.PressLabelled("Try it: plates")
	p.Shows(".tried", "can do all that the service asks of it")
	p.Press("files:crews/ann")
	p.Press("Count it anew")
	p.Shows("body", "as was known")

	at("/reports/readers?about=files:crews/ann/f")
	p.Shows("table[aria-label=Report]", "the grant on / gives full")
	p.Over("input[name=about]", "files:nowhere")
	p.Press("Make the report")
	p.Shows("main", "Nothing to tell.")
	at("/audit?text=no+such+thing")
	p.Shows("main", "No record matches.")

	at("/gate")
	p.Shows("table[aria-label=Rules]", "listener sftp")
	p.Fill("input[name=allow]", "192.0.2.0/24")
	p.Press("Save")
	p.Shows("body", "You would lock yourself out")
	p.Press("Leave it")
	out, err = k.Curl("ann", "ftps", "/")
	require.NoError(t, err, out)
	p.Over("input[name=allow]", "127.0.0.0/8")
	p.Press("Save")
	p.Shows("body", "It holds for new connections")
	assert.Contains(t, k.Must(nil, "gate", "show"), "127.0.0.0/8")
	p.Over("input[name=lockout]", "0")
	p.Press("Save the limits")
	p.Shows("#limits .wrong", "t must be from")
	p.Over("input[name=lockout]", "1800")
	p.Press("Save the limits")
	p.Shows("body", "It holds at once, for everybody")
	assert.Contains(t, k.Must(nil, "limits", "show"), "30m0s")
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
	p.Shows("table[aria-label='Ended transfers']", "/scan <b>.las")
	p.Shows("table[aria-label='Running transfers']", "/s")
	p.Follow("Sessions")
	p.Shows("table[aria-label='Live sessions']", "TLS_")
	p.Fill("input[aria-label^='Find by account']", "nobody")
	p.Shows("main", "Nobody is signed in.")
	p.Follow("Transfers")
	p.Press("End")
	p.Fill("input[name=reason]", "the disk is checked")
	p.Press("End the transfer of big")
	assert.Error(t, <-ended)
	p.Shows("table[aria-label='Ended transfers']", "ended by operator")

	at("/traffic?by=group")
	p.Shows("table[aria-label=Traffic]", "crews")
	p.See("[role=img] svg path") // the picture
	p.Follow("by account")
	p.Shows("main .head", "group crews")
	p.Shows("table[aria-label=Traffic]", "ann")
	p.Follow("by file")
	p.Shows("table[aria-label=Traffic]", "/scan <b>.las")
	p.Follow("mount")
	p.Shows("table[aria-label=Traffic]", "files:ann")
	p.Follow("operations")
	p.Shows("table[aria-label=Traffic]", "Of all operations")
	at("/traffic?by=file&account=ann&path=/scan+%3Cb%3E.las")
	p.Follow("its audit records")
	p.Shows("table[aria-label='Audit records']", "/scan <b>.las")
	p.Shows("main .head", "1 records")

	at("/settings")
	p.Shows("main", "Records are sent nowhere.")
	p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("h2")].find(h => h.textContent === "Syslog collector").parentElement.querySelector("button").click()`))
	p.Fill("input[name=collector]", "somewhere")
	p.Press("Save")
	p.Shows("[role=alert]", "is no collector")
	p.Over("input[name=collector]", "tcp://127.0.0.1:1")
	p.Press("Save")
	p.Shows("main", "waiting: ")
	p.Press("Seal now")
	p.Shows("body", "No record has stayed long enough.")
}
