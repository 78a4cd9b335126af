// Command shots makes the pictures in docs/screenshots from the demo: pages in
// the browser, and commands from their real output. With -look DIR it takes the
// pages only, into that folder, in another size or look, to be looked at.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"urbankeep/tests/browser"
)

const (
	program = "bin/urbankeep"
	console = "127.0.0.1:18470"
)

var (
	folder = "docs/screenshots"
	look   = flag.String("look", "", "take the pages only, into this folder")
	width  = flag.Int64("width", browser.Width, "width of the page, in pixels")
	height = flag.Int64("height", browser.Height, "height of the page, in pixels")
	isDark = flag.Bool("dark", false, "take the dark look")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run() error {
	data, err := os.MkdirTemp("", "shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	stop, err := startDemo(data)
	if err != nil {
		return err
	}
	defer stop()
	if *look != "" {
		folder = *look
	} else {
		time.Sleep(45 * time.Second) // some live traffic
	}
	tab, cancel, err := browser.Open(context.Background())
	if err != nil {
		return err
	}
	defer cancel()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(*width, *height)); err != nil {
		return err
	}
	if err := pages(tab); err != nil {
		return err
	}
	if err := pass(tab, data); err != nil || *look != "" {
		return err
	}
	return commands(tab, data)
}

func startDemo(data string) (func(), error) {
	demo := exec.Command(program, "demo", "-data", data, "-console", console, "-ftp", "127.0.0.1:12121", "-ftps", "127.0.0.1:12990", "-sftp", "127.0.0.1:12222",
		"-passive", "48000-48099")
	demo.Stderr = os.Stderr
	out, err := demo.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := demo.Start(); err != nil {
		return nil, err
	}
	stop := func() {
		demo.Process.Signal(syscall.SIGTERM)
		demo.Wait()
	}
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if strings.HasPrefix(lines.Text(), "ready") {
			return stop, nil
		}
	}
	stop()
	return nil, fmt.Errorf("the demo did not become ready")
}

// save takes the picture of what the tab shows.
func save(tab context.Context, name string) error {
	picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return os.WriteFile(filepath.Join(folder, name+".png"), picture, 0o644)
}

// page goes to a path of the console, waits for something on it, and takes its picture.
func page(tab context.Context, path string, wait chromedp.CSS, name string, steps ...chromedp.Action[chromedp.Void]) error {
	all := append([]chromedp.Action[chromedp.Void]{chromedp.Navigate("http://" + console + "/console" + path), chromedp.WaitVisible(wait)}, steps...)
	if err := chromedp.Do(tab, append(all, chromedp.Sleep(1200*time.Millisecond))...); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return save(tab, name)
}

func pages(tab context.Context) error {
	err := chromedp.Do(tab,
		chromedp.Navigate("http://"+console+"/console/sign-in"), chromedp.WaitVisible(chromedp.CSS("input[name=operator]")),
		chromedp.SendKeys(chromedp.CSS("input[name=operator]"), "ilse"),
		chromedp.SendKeys(chromedp.CSS("input[name=password]"), "harbour-master-1"),
		chromedp.Click(chromedp.CSS("button[type=submit]")),
		chromedp.WaitVisible(chromedp.CSS("nav")))
	if err != nil {
		return err
	}
	dark := chromedp.Evaluate[chromedp.Void](`localStorage.setItem('look', 'dark')`)
	if *isDark {
		if err := chromedp.Do(tab, dark); err != nil {
			return err
		}
	}
	for _, p := range []struct {
		path string
		wait chromedp.CSS
		name string
	}{
		{"/", "tr.moves", "page-overview"},
		{"/transfers", "tr.moves", "look-transfers"},
		{"/traffic?by=account", "[role=img] svg path", "page-traffic"},
		{"/accounts", "table[aria-label=Accounts] tbody tr", "page-accounts"},
		{"/accounts/drone-contractor", ".drawer .quota", "page-account"},
		{"/set-up", "ol li", "look-set-up"},
		{"/check-up", "table[aria-label=Findings] tbody tr", "page-check-up"},
		{"/history", "table[aria-label=Changes] tbody tr", "look-changes"},
		{"/passes", "table[aria-label=Passes] tbody tr", "page-passes"},
		{"/sources", "#routes tbody tr", "page-sources"},
		{"/notices", "table[aria-label=Notices] tbody tr", "page-notices"},
		{"/notices/readings", "table[aria-label='What it told'] tbody tr", "look-notice"},
		{"/operators", "table[aria-label='Open now'] tbody tr", "look-operators"},
		{"/handover/drone-contractor", "article pre", "page-handover"},
		{"/settings", "table[aria-label='Host keys'] tbody tr", "page-settings"},
		{"/audit?outcome=refused", "table[aria-label='Audit records'] tbody tr", "page-audit"},
	} {
		if strings.HasPrefix(p.name, "look-") && *look == "" {
			continue
		}
		if err := page(tab, p.path, p.wait, p.name); err != nil {
			return err
		}
	}
	// A store that was just tried, and the form for one of another kind.
	try := chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('tr')].find((r) => r.textContent.startsWith('surveys')).querySelector('td.number button').click()`)
	kind := chromedp.Click(chromedp.CSS("form.add .n-select .n-base-selection"))
	object := chromedp.Click(chromedp.Search("//*[contains(@class, 'n-base-select-option__content')][text()='a bucket (S3)']"))
	if err := page(tab, "/stores", "table[aria-label=Stores] tbody tr", "page-stores", try, chromedp.WaitVisible(chromedp.CSS(".tried li")), kind, object, chromedp.WaitVisible(chromedp.CSS("input[name=bucket]"))); err != nil {
		return err
	}
	if err := chromedp.Do(tab, dark); err != nil {
		return err
	}
	if err := page(tab, "/sessions", "table[aria-label='Live sessions'] tbody tr", "page-sessions"); err != nil {
		return err
	}
	if *look != "" {
		if err := page(tab, "/settings/web", ".drawer input", "look-web-listener"); err != nil {
			return err
		}
		add := chromedp.Click(chromedp.CSS(".head button"))
		if err := page(tab, "/notices", "table[aria-label=Notices] tbody tr", "look-notice-form", add, chromedp.WaitVisible(chromedp.CSS("input[name=notice]"))); err != nil {
			return err
		}
		if err := page(tab, "/sources", "#routes tbody tr", "look-source-form", chromedp.Click(chromedp.CSS("button[aria-label='Change city-hall']")), chromedp.WaitVisible(chromedp.CSS("textarea[name=table]"))); err != nil {
			return err
		}
		if err := page(tab, "/sources", "#routes tbody tr", "look-source-check", chromedp.Click(chromedp.CSS("button[aria-label='Check city-hall']")), chromedp.WaitVisible(chromedp.CSS("input[name=check-account]")),
			chromedp.SendKeys(chromedp.CSS("input[name=check-account]"), "nils@portselwyn.example"), chromedp.Click(chromedp.CSS("form button[type=submit]")), chromedp.WaitVisible(chromedp.CSS("form ol li"))); err != nil {
			return err
		}
		add = chromedp.Click(chromedp.CSS("#receivers header button"))
		if err := page(tab, "/notices", "table[aria-label=Receivers] tbody tr", "look-receiver-form", add, chromedp.WaitVisible(chromedp.CSS("input[name=receiver]"))); err != nil {
			return err
		}
	}
	return portal(tab)
}

// portal is what an account holder sees.
func portal(tab context.Context) error {
	err := chromedp.Do(tab,
		chromedp.Navigate("http://"+console+"/portal/"), chromedp.WaitVisible(chromedp.CSS("input[name=account]")),
		chromedp.SendKeys(chromedp.CSS("input[name=account]"), "records-desk"), chromedp.SendKeys(chromedp.CSS("input[name=password]"), "ledger-of-selwyn-1"))
	if err != nil {
		return err
	}
	if *look != "" {
		if err := save(tab, "look-portal-sign-in"); err != nil {
			return err
		}
	}
	run := func(script string) error { return chromedp.Do(tab, chromedp.Evaluate[chromedp.Void](script)) }
	for _, one := range []struct {
		name, script, sees string
	}{
		{"look-portal-root", `document.querySelector("form button").click()`, "[role=grid] .box .row"},
		{"look-portal-plates", `location.hash = "/shared/plates"`, "[role=grid] .box .row"},
		{"page-portal-previews", `location.hash = "/shared/views"; document.querySelector(".pair button:last-child").click()`, ".tile img"},
		{"look-portal-show", `document.querySelector(".tile .face").click()`, "dialog img"},
		{"look-portal-bin", `document.querySelector("dialog")?.close(); document.querySelector(".pair button").click(); const press = (text) => [...document.querySelectorAll("button")].find((b) => b.innerText === text)?.click();
			press("Bin"); document.querySelector(".list").dispatchEvent(new KeyboardEvent("keydown", { key: "Delete", bubbles: true })); setTimeout(() => document.querySelector("form.ask button").click(), 500)`, ".bin li"},
		{"look-portal-account", `document.querySelector("dialog")?.close(); location.hash = "account"`, "#lately"},
	} {
		if err := run(one.script); err != nil {
			return fmt.Errorf("%s: %w", one.name, err)
		}
		if err := chromedp.Do(tab, chromedp.WaitVisible(chromedp.CSS(one.sees)), chromedp.Sleep(2*time.Second)); err != nil {
			return fmt.Errorf("%s: %w", one.name, err)
		}
		for n := 0; n < 40; n++ { // until the pictures are drawn
			left, err := chromedp.Run(tab, chromedp.Evaluate[int](`[...document.querySelectorAll(".tile")].filter((t) => !t.querySelector("img")?.naturalWidth).length`))
			if err != nil {
				return err
			}
			if left == 0 {
				break
			}
			time.Sleep(500 * time.Millisecond)
		}
		if strings.HasPrefix(one.name, "look-") && *look == "" {
			continue // it leads to the next
		}
		if err := save(tab, one.name); err != nil {
			return err
		}
	}
	return nil
}

// pass is what somebody with a link sees, and the operators of it.
func pass(tab context.Context, data string) error {
	text, err := os.ReadFile(filepath.Join(data, "credentials.json"))
	if err != nil {
		return err
	}
	var papers struct {
		Passes []struct{ Kind, Link string } `json:"passes"`
	}
	if err := json.Unmarshal(text, &papers); err != nil {
		return err
	}
	for _, p := range papers.Passes {
		name := map[string]string{"fetch": "page-pass", "drop": "look-pass-drop"}[p.Kind]
		if strings.HasPrefix(name, "look-") && *look == "" {
			continue
		}
		if err := chromedp.Do(tab, chromedp.Navigate("http://"+console+p.Link), chromedp.WaitVisible(chromedp.CSS("h1")), chromedp.Sleep(time.Second)); err != nil {
			return err
		}
		if err := save(tab, name); err != nil {
			return err
		}
	}
	return nil
}

// commands runs commands on the demo and draws their output.
func commands(tab context.Context, data string) error {
	for _, c := range []struct{ line, name string }{
		{"checkup", "command-checkup"},
		{"rehearse gauge-quay", "command-rehearse"},
		{"audit -outcome refused -most 16", "command-audit"},
		{"explain drone-contractor upload /flight-06.laz -from 203.0.113.140", "command-explain"},
	} {
		output, err := exec.Command(program, append(strings.Fields(c.line), "-data", data)...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s: %w: %s", c.line, err, output)
		}
		file := filepath.Join(data, c.name+".html")
		text := fmt.Sprintf(`<!doctype html><meta charset="utf-8"><body style="margin:0;background:#201e1b"><pre style="margin:0;padding:18px;
			font:13px/1.5 'DejaVu Sans Mono',monospace;color:#e9e4da;white-space:pre"><b style="color:#7cc4ab">$ urbankeep %s</b>
%s</pre>`, html.EscapeString(c.line), html.EscapeString(string(output)))
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			return err
		}
		if err := chromedp.Do(tab, chromedp.Navigate("file://"+file)); err != nil {
			return err
		}
		picture, err := chromedp.Run(tab, chromedp.Screenshot(chromedp.CSS("pre")))
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, c.name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}
