package service_test

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// fault is what the accessibility check says of a page.
type fault struct {
	ID, Impact, Help string
	Nodes            []struct{ HTML string }
}

// accessible runs axe on the page that is shown, and asserts that it finds nothing serious,
// nor anything about contrast that it can't decide.
func (p *page) accessible(name string) {
	p.t.Helper()
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	p.do(chromedp.Evaluate[chromedp.Void]("window.axe || (0, eval)(" + quotedJS(string(axe)) + "); window.found = ''; " +
		// Shapes beside words are no text; of controls and pictures, whose frames lie over their colours, theme.test.ts asserts the contrast.
		`var undecided = /only non-text characters|overlapped by another|obscured by another|contains an image/; ` +
		`axe.run({ exclude: ['.n-message-container'] }).then(r => { window.found = JSON.stringify([...r.violations.filter(v => v.impact === "serious" || v.impact === "critical"), ...r.incomplete.filter(v => v.id === "color-contrast")]
			.map(v => ({ ID: v.id, Impact: v.impact, Help: v.help, Nodes: v.nodes.map(n => ({ HTML: n.html.slice(0, 160) + " " + (n.any[0]?.message ?? "") })).filter(n => !undecided.test(n.HTML)) })).filter(v => v.Nodes.length > 0)) }); undefined`))
	text := ""
	require.Eventually(p.t, func() bool {
		text, _ = chromedp.Run(p.tab, chromedp.Evaluate[string]("window.found"))
		return text != ""
	}, 30*time.Second, 100*time.Millisecond)
	var faults []fault
	require.NoError(p.t, json.Unmarshal([]byte(text), &faults))
	for _, f := range faults {
		for _, n := range f.Nodes {
			assert.Fail(p.t, name, "%s (%s): %s: %s", f.ID, f.Impact, f.Help, n.HTML)
		}
	}
}

func quotedJS(text string) string {
	quoted, _ := json.Marshal(text)
	return string(quoted)
}

// tabTo moves the focus with the Tab key until it is on a control that says text.
func (p *page) tabTo(text string) {
	p.t.Helper()
	for range 150 {
		p.do(chromedp.KeyEvent("\t"))
		says, err := chromedp.Run(p.tab, chromedp.Evaluate[string](`(e => (e.getAttribute("aria-label") ?? "") + "|" + (e.innerText ?? "").trim().replace(/\s+/g, " ") + "|" + (e.name ?? ""))(document.activeElement)`))
		require.NoError(p.t, err)
		for _, one := range strings.Split(says, "|") {
			if one == text {
				return
			}
		}
	}
	p.t.Fatalf("the Tab key does not reach %q", text)
}

// keys types with the keyboard, wherever the focus is.
func (p *page) keys(text string) { p.t.Helper(); p.do(chromedp.KeyEvent(text)) }

// A new administrator with a keyboard alone: from the set-up link to a hand-over sheet.
func TestTheSetUpIsWalkedWithTheKeyboardAlone(t *testing.T) {
	k := testkit.Start(t)
	p := openBrowser(t)
	link, err := k.SetupLink(t.Context())
	require.NoError(t, err)
	p.do(chromedp.Navigate(link))
	p.see("input[name=operator]")
	p.accessible("first operator")
	p.tabTo("operator")
	p.keys("ilse\t" + testkit.Password + "\r")
	p.shows("main h1", "Set-up")
	p.shows("ol", "First operator")
	p.shows(".one", "The name stands on hand-over sheets")
	p.tabTo("serviceName")
	p.keys("Survey Office\tlocalhost\r")
	p.shows("body", "Saved.")
	p.shows("ol", "done")
	for _, step := range []string{"3 Protocols and addresses", "5 Passive ports", "6 Certificate"} {
		p.do(chromedp.Evaluate[chromedp.Void]("document.activeElement.blur()"))
		p.tabTo(step)
		p.keys("\r")
		p.shows(".one header", step[2:])
		p.accessible("set-up, " + step)
		p.tabTo("It is as it should be")
		p.keys("\r")
	}
	p.shows(".one h2", "Host keys")
	p.tabTo("Skip it for now")
	p.keys("\r")
	p.shows(".one h2", "First store")
	p.shows("ol", "skipped")
	p.accessible("set-up")

	k.Account("ann", "-rights", "full")
	p.tabTo("11 Hand-over sheet")
	p.keys("\r")
	p.do(chromedp.Reload())
	p.shows("ol", "Hand-over sheet")
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/handover/ann"))
	p.shows("article", "Survey Office: how to connect as ann")
	p.shows("article", "StrictHostKeyChecking=yes")
	p.tabTo("host")
	p.keys("files.portselwyn.example\r")
	p.shows("article", "files.portselwyn.example.known_hosts")
	p.accessible("hand-over sheet")

	// A check-up, the ports, and the commands for a packet filter.
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/check-up"))
	p.shows("table[aria-label=Findings]", "it answers on")
	p.tabTo("Warnings and faults only")
	p.keys("\r")
	p.shows("main", "Neither a warning nor a fault.")
	p.shows("table[aria-label=Ports]", "administration of this machine")

	// A change of the settings is seen and taken back.
	k.Must(nil, "account", "set", "ann", "-max-sessions", "2")
	p.do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/history?what=account"))
	p.shows("table[aria-label=Changes]", "maxSessions: nothing → 2")
	p.tabTo("Undo change " + fmt.Sprint(newest(t, k, "account").ID))
	p.keys("\r")
	p.tabTo("Confirm")
	p.keys("\r")
	p.shows("body", "was taken back by change")
	assert.NotContains(t, k.Must(nil, "account", "show", "ann"), "sessions at once   2")
	p.accessible("changes")
}

func TestOperatorsInTheConsole(t *testing.T) {
	k := testkit.Start(t)
	p, at := atTheConsole(t, k)
	at("/operators")
	p.shows("table[aria-label=Operators]", "ilse")
	p.press("Add an operator")
	p.fill("input[name=newOperator]", "tomas")
	p.fill("input[name=newPassword]", "short")
	p.press("Add the operator")
	p.shows("[role=alert]", "at least 10 characters")
	p.over("input[name=newPassword]", testkit.Password)
	p.press("Add the operator")
	p.shows("table[aria-label=Operators]", "tomas")
	p.press("Remove") // the first is the last owner
	p.press("Confirm")
	p.shows("body", "Ilse is the last owner")

	p.press("Switch one-time codes on")
	p.see(".codes .secret")
	secret := p.text(".codes .secret")
	code, err := totp.GenerateCode(secret, time.Now())
	require.NoError(t, err)
	p.fill("input[name=code]", code)
	p.press("Ask for codes from now on")
	p.shows(".recovery", "shown this once")
	recovery := p.text(".recovery li")
	p.accessible("operators")
	p.press("I have kept them")
	p.shows("table[aria-label='Open now']", "(this one)")
	p.press("Sign out")
	p.fill("input[name=operator]", "ilse")
	p.fill("input[name=password]", testkit.Password)
	p.press("Sign in")
	p.fill("input[name=code]", recovery)
	p.press("Sign in")
	p.shows("nav", "ilse, owner")

	// A password goes by a link that shows it once.
	k.Account("ann")
	at("/accounts/ann")
	p.press("Password by link")
	p.press("Confirm")
	p.see(".drawer .link code")
	link := p.text(".drawer .link code")
	p.do(chromedp.Navigate(link))
	p.shows("main", "shown once")
	p.accessible("password")
	p.press("Show the password")
	p.see("code.password")
	out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", "ann:"+p.text("code.password"), "ftps://"+k.Address("ftps")+"/")
	assert.Error(t, err, "it must be changed first: %s", out)
	p.do(chromedp.Navigate(link), chromedp.Reload())
	p.press("Show the password")
	p.shows("[role=alert]", "was used before")
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
	dialAs(t, k.Address("ftps"), "ann", testkit.Password) // a live session
	p, at := atTheConsole(t, k)
	for _, look := range []string{"light", "dark"} {
		p.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf("localStorage.setItem('look', %q)", look)))
		for _, one := range []struct{ path, css string }{
			{"/", "table[aria-label='Live sessions'] tbody tr"}, {"/sessions", "tbody tr"}, {"/transfers", "tbody tr"}, {"/traffic", "[role=img] svg path"}, {"/accounts", "tbody tr"},
			{"/accounts/ann", ".drawer table"}, {"/accounts?add", ".drawer input"}, {"/groups", "tbody tr"}, {"/groups/crews", ".drawer table"}, {"/stores", "tbody tr"}, {"/gate", "tbody tr"}, {"/audit", "tbody tr"},
			{"/reports/refusals", "tbody tr"}, {"/settings", "table[aria-label='Host keys'] tbody tr"}, {"/settings/ftp", ".drawer input"}, {"/check-up", "table[aria-label=Findings] tbody tr"}, {"/history", "tbody tr"}, {"/operators", "table[aria-label='Open now'] tbody tr"},
			{"/set-up", "ol li"}, {"/handover/ann", "article pre"},
		} {
			at(one.path)
			p.see(one.css)
			time.Sleep(400 * time.Millisecond) // what slides or fades in has done so
			p.accessible(look + " " + one.path)
		}
	}
	p.press("Sign out")
	p.see("input[name=password]")
	p.accessible("sign-in")
}
