package console_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"urbankeep/tests/browser"
	"urbankeep/tests/testkit/ftptalk"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// A new administrator with a keyboard alone: from the set-up link to a hand-over sheet.
func TestTheSetUpIsWalkedWithTheKeyboardAlone(t *testing.T) {
	k := testkit.Start(t)
	p := browser.On(t)
	link, err := k.SetupLink(t.Context())
	require.NoError(t, err)
	p.Do(chromedp.Navigate(link))
	p.See("input[name=operator]")
	p.Accessible("first operator")
	p.TabTo("operator")
	p.Keys("ilse\t" + testkit.Password + "\r")
	p.Shows("main h1", "Set-up")
	p.Shows("nav[aria-label=Steps]", "When you like")
	p.Shows(".one", "The name stands on hand-over sheets")
	p.Accessible("set-up, name and address")
	p.TabTo("serviceName")
	p.Keys("Survey Office\tlocalhost\r")
	p.Shows(".one header", "Certificate") // saved, and on to the next
	p.Accessible("set-up, certificate")
	p.TabTo("Later")
	p.Keys("\r")
	p.Shows(".one header", "First account")
	p.Accessible("set-up, first account")
	p.TabTo("name")
	p.Keys("ann")
	p.TabTo("Add the account")
	p.Keys("\r")
	p.Shows(".one", "The password of ann")
	password := p.Text(".once code")
	p.TabTo("I have it")
	p.Keys("\r")
	p.Shows("article", "Survey Office: how to connect as ann")
	p.Shows(".one", "Waiting for ann")
	p.Accessible("set-up, hand-over sheet")
	file, _ := testkit.File(t, 700)
	out, err := testkit.Run(t, "", "curl", "-sS", "-k", "-u", "ann:"+password, "-T", file, "ftps://"+k.Address("ftps")+"/first.txt")
	require.NoError(t, err, out)
	p.Shows(".one", "ann has arrived")
	p.Shows("table[aria-label='First transfers']", "/first.txt")
	for _, step := range []string{"5 First operator", "6 Protocols and addresses", "7 Passive ports", "8 Host keys", "9 First store", "10 First group"} {
		p.Do(chromedp.Evaluate[chromedp.Void]("document.activeElement.blur()"))
		p.TabTo(step)
		p.Keys("\r")
		_, title, _ := strings.Cut(step, " ")
		p.Shows(".one header", title)
		p.Accessible("set-up, " + title)
	}
	p.TabTo("name")
	p.Keys("crews")
	p.TabTo("Add the group")
	p.Keys("\r")
	p.Shows(".one", "1 group")
	p.TabTo("7 Passive ports")
	p.Keys("\r")
	p.TabTo("ftp")
	p.Keys("\r")
	p.Shows(".one", "Told to clients outside")
	p.Do(chromedp.Reload())
	p.Shows("nav[aria-label=Steps]", "Hand-over sheet")
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/handover/ann"))
	p.Shows("article", "StrictHostKeyChecking=yes")
	p.TabTo("host")
	p.Keys("files.portselwyn.example\r")
	p.Shows("article", "files.portselwyn.example.known_hosts")
	p.Accessible("hand-over sheet")

	// A check-up, the ports, and the commands for a packet filter.
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/check-up"))
	p.Shows("table[aria-label=Findings]", "it answers on")
	p.TabTo("Warnings and faults only")
	p.Keys("\r")
	p.Shows("main", "Neither a warning nor a fault.")
	p.Shows("table[aria-label=Ports]", "administration of this machine")

	// A change of the settings is seen and taken back.
	k.Must(nil, "account", "set", "ann", "-max-sessions", "2")
	p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console/history?what=account"))
	p.Shows("table[aria-label=Changes]", "sessions at once: not set → 2")
	p.TabTo("Undo change " + fmt.Sprint(k.NewestChange("account").ID))
	p.Keys("\r")
	p.TabTo("Confirm")
	p.Keys("\r")
	p.Shows("body", "was taken back by change")
	assert.NotContains(t, k.Must(nil, "account", "show", "ann"), "sessions at once   2")
	p.Accessible("changes")
}

func TestOperatorsInTheConsole(t *testing.T) {
	k := testkit.Start(t)
	p, at := atTheConsole(t, k)
	at("/operators")
	p.Shows("table[aria-label=Operators]", "ilse")
	p.Press("Add an operator")
	p.Fill("input[name=newOperator]", "tomas")
	p.Fill("input[name=newPassword]", "short")
	p.Press("Add the operator")
	p.Shows("[role=alert]", "at least 10 characters")
	p.Over("input[name=newPassword]", testkit.Password)
	p.Press("Add the operator")
	p.Shows("table[aria-label=Operators]", "tomas")
	p.Press("Remove") // the first is the last owner
	p.Press("Confirm")
	p.Shows("body", "Ilse is the last owner")

	p.Press("Switch one-time codes on")
	p.See(".codes .secret")
	secret := p.Text(".codes .secret")
	code, err := totp.GenerateCode(secret, time.Now())
	require.NoError(t, err)
	p.Fill("input[name=code]", code)
	p.Press("Ask for codes from now on")
	p.Shows(".recovery", "shown this once")
	recovery := p.Text(".recovery li")
	p.Accessible("operators")
	p.Press("I have kept them")
	p.Shows("table[aria-label='Open now']", "(this one)")
	p.Press("Sign out")
	p.Fill("input[name=operator]", "ilse")
	p.Fill("input[name=password]", testkit.Password)
	p.Press("Sign in")
	p.Fill("input[name=code]", recovery)
	p.Press("Sign in")
	p.Shows("nav", "ilse, owner")

	// A password goes by a link that shows it once.
	k.Account("ann")
	at("/accounts/ann")
	p.Press("Password by link")
	p.Press("Confirm")
	p.See(".drawer .link code")
	link := p.Text(".drawer .link code")
	p.Do(chromedp.Navigate(link))
	p.Shows("main", "shown once")
	p.Accessible("password")
	p.Press("Show the password")
	p.See("code.password")
	out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", "ann:"+p.Text("code.password"), "ftps://"+k.Address("ftps")+"/")
	assert.Error(t, err, "it must be changed first: %s", out)
	p.Do(chromedp.Navigate(link), chromedp.Reload())
	p.Press("Show the password")
	p.Shows("[role=alert]", "was used before")
}

// Every page of the console, in both looks.
func TestNoPageHasASeriousAccessibilityFault(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "service", "set", "-host", "localhost")
	k.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full", "-quota-bytes", "1M")
	k.Account("ann", "-group", "crews", "-encryption", "optional", "-note", "surveys the harbour")
	k.Key("ann")
	file, _ := testkit.File(t, 5000)
	for range 2 {
		k.Curl("ann", "ftps", "/f", "-T", file)
		k.Curl("nobody", "ftps", "/f", "-T", file)
	}
	k.Must(nil, "receiver", "add", "office", "https://192.0.2.1/")
	k.Must(nil, "notice", "add", "arrived", "-events", "upload", "-receivers", "office")
	ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password) // a live session
	p, at := atTheConsole(t, k)
	turnLook := func() {
		before := p.Value("document.documentElement.className")
		p.Value(`[...document.querySelectorAll("nav button")].find((b) => b.textContent.trim().endsWith(" look")).click(), ""`)
		p.Wait("the other look", fmt.Sprintf("document.documentElement.className !== %q", before))
		p.Settle()
	}
	for _, one := range []struct{ path, css string }{
		{"/", "table[aria-label='Live sessions'] tbody tr"}, {"/sessions", "tbody tr"}, {"/transfers", "tbody tr"}, {"/traffic", "[role=img] svg path"}, {"/accounts", "tbody tr"},
		{"/accounts/ann", ".drawer table"}, {"/accounts?add", ".drawer input"}, {"/groups", "tbody tr"}, {"/groups/crews", ".drawer table"}, {"/stores", "tbody tr"}, {"/gate", "tbody tr"}, {"/audit", "tbody tr"},
		{"/reports/refusals", "tbody tr"}, {"/settings", "table[aria-label='Host keys'] tbody tr"}, {"/settings/ftp", ".drawer input"}, {"/settings/web", ".drawer input"}, {"/check-up", "table[aria-label=Findings] tbody tr"}, {"/history", "tbody tr"}, {"/operators", "table[aria-label='Open now'] tbody tr"},
		{"/sources", "#routes tbody tr"}, {"/shelf", ".none"}, {"/notices", "table[aria-label=Receivers] tbody tr"}, {"/notices/arrived", ".drawer dl"}, {"/set-up", "ol li"}, {"/handover/ann", "article pre"},
	} {
		p.Do(chromedp.EmulateViewport(browser.Width, browser.Height))
		at(one.path)
		p.See(one.css)
		p.Settle()
		p.Accessible(one.path)
		p.Fits(one.path)
		turnLook() // which changes colours only
		p.Accessible(one.path+", dark", "color-contrast")
		turnLook()
		p.Do(chromedp.EmulateViewport(390, browser.Height))
		p.Settle()
		p.Accessible(one.path + ", narrow")
		p.Fits(one.path)
	}
	p.Press("Menu")
	p.Press("Sign out")
	p.See("input[name=password]")
	p.Accessible("sign-in")
}

// A narrow screen has everything that a wide one has: the rail behind a button, tables that
// scroll within themselves, and drawers over the page.
func TestTheConsoleOnANarrowScreen(t *testing.T) {
	k := testkit.Start(t)
	note := "surveys the harbour " + strings.Repeat("and the quay ", 12) + "too"
	k.Account("crew-harbour", "-note", note)
	p, at := atTheConsole(t, k)
	p.Do(chromedp.EmulateViewport(390, browser.Height))
	at("/")
	p.Press("Menu")
	p.Follow("Accounts")
	p.Shows("h1", "Accounts")
	p.Shows(".fold", "Menu") // it has folded by itself
	p.Press("crew-harbour")
	p.Shows(".drawer", note)
	p.Press("Close")
	at("/accounts")
	p.Do(chromedp.EmulateViewport(browser.Width, browser.Height))
	p.Shows("nav", "People and files")
	p.Shows("td.cut", "surveys the harbour")
	assert.Equal(t, note, p.Value(`document.querySelector("td.cut").title`))
	assert.Equal(t, "true", p.Value(`String((c => c.scrollWidth > c.clientWidth && getComputedStyle(c).textOverflow === "ellipsis")(document.querySelector("td.cut")))`))
}

func TestThingsAreFoundByName(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	k.Account("crew-harbour", "-note", "100%_sure")
	k.Account("gauge-quay")
	p, at := atTheConsole(t, k)
	title := func(want string) { p.Wait("the title "+want, fmt.Sprintf("document.title === %q", want)) }
	at("/audit")
	p.Shows("h1", "Audit trail")
	title("Audit trail · Urban Keep")
	p.Pressed("/", false)
	p.Keys("crew")
	p.Shows("#found", "account crew-harbour")
	p.Shows("#found", "group crews")
	p.Keys(kb.ArrowDown + kb.Enter)
	title("crews · Groups · Urban Keep")
	for asked, leads := range map[string]string{"quay": "gauge-quay · Accounts · Urban Keep", "%_sure": "crew-harbour · Accounts · Urban Keep", "host keys": "Settings · Urban Keep", "ftps": "ftps · Settings · Urban Keep", "stores and q": "Stores and quotas · Urban Keep"} {
		p.Pressed("k", true)
		p.Keys(asked)
		p.Wait("one thing called "+asked, fmt.Sprintf(`document.querySelector("input[name=find]").value === %q && document.querySelector("#found li[aria-selected=true]") !== null`, asked))
		p.Keys(kb.Enter)
		title(leads)
	}
	p.Pressed("/", false)
	p.Keys("%")
	p.Shows("#found", "crew-harbour")
	assert.NotContains(t, p.Text("#found"), "gauge-quay", "a per cent sign is a letter like any other")
}
