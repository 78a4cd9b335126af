package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A step that takes longer than patience hangs; a page is asked again after a turn.
const (
	patience = 2 * time.Minute
	turn     = 20 * time.Millisecond
)

// Page is a tab of headless Chromium on the console.
type Page struct {
	t   *testing.T
	Tab context.Context
}

// On opens a browser until the test ends.
func On(t *testing.T) *Page {
	tab, cancel, err := Open(context.Background())
	require.NoError(t, err)
	t.Cleanup(cancel)
	return &Page{t, tab}
}

func (p *Page) Do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, stop := context.WithTimeout(p.Tab, patience)
	defer stop()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(p.Tab, chromedp.Text(chromedp.CSS("body")))
		require.NoError(p.t, err, "the page shows: %s", text)
	}
}

func (p *Page) See(css string) { p.t.Helper(); p.Do(chromedp.WaitVisible(chromedp.CSS(css))) }

func (p *Page) Fill(css, text string) {
	p.t.Helper()
	p.Do(chromedp.WaitVisible(chromedp.CSS(css)), chromedp.SendKeys(chromedp.CSS(css), text))
}

// pressing clicks the first button or link that says a text (any, where that is ""), once it can be seen, lies under
// nothing and may be used; until then it answers what it waits for. A click is given to
// the button, not to a place: panels slide in.
const pressing = `((kind, says) => {
	const button = [...document.querySelectorAll(kind)].find(b => b.textContent.trim().replace(/\s+/g, " ") === says || !says)
	if (!button) return "no such button"
	button.scrollIntoView({ block: "nearest", behavior: "instant" })
	const { x, y, width, height } = button.getBoundingClientRect()
	if (!button.contains(document.elementFromPoint(x + width / 2, y + height / 2))) return "hidden or covered"
	if (button.disabled) return "disabled"
	button.focus()
	button.click()
	return ""
})(%q, %q)`

// Press clicks the button that says text, follow the link.
func (p *Page) Press(text string) { p.t.Helper(); p.click("button", text) }

// PressLabelled clicks the button with a label that differs from what it says.
func (p *Page) PressLabelled(label string) {
	p.t.Helper()
	p.click(fmt.Sprintf("button[aria-label=%q]", label), "")
}

func (p *Page) Follow(text string) { p.t.Helper(); p.click("a", text) }

func (p *Page) click(kind, text string) {
	p.t.Helper()
	p.until("the "+kind+" "+text, fmt.Sprintf(pressing, kind, text))
}

// until evaluates until nothing is waited for any more.
func (p *Page) until(what, expression string) {
	p.t.Helper()
	waiting := ""
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(turn) {
		var err error
		if waiting, err = chromedp.Run(p.Tab, chromedp.Evaluate[string](expression)); err == nil && waiting == "" {
			return
		}
	}
	p.t.Fatalf("%s: %s; the page shows: %s", what, waiting, p.Text("body"))
}

// choosing takes an option of the choice whose label begins with a text; until it is taken it answers what it waits for.
const choosing = `((says, option) => {
	const shown = (css) => [...document.querySelectorAll(css)].filter(it => it.getClientRects().length)
	const select = shown("label").find(l => l.textContent.trim().startsWith(says))?.querySelector(".n-base-selection")
	if (!select) return "no such choice"
	if (select.textContent.includes(option)) {
		select.dispatchEvent(new KeyboardEvent("keydown", { key: "Escape" })) // those of which several may be taken stay open
		return ""
	}
	const found = shown(".n-base-select-option__content").find(o => o.textContent === option)
	if (found) found.click()
	else if (!shown(".n-base-select-menu").length) select.click()
	return "no such option"
})(%q, %q)`

// Choose takes an option of a choice, wherever the page moves them meanwhile.
func (p *Page) Choose(label, option string) {
	p.t.Helper()
	p.until("the choice "+label+": "+option, fmt.Sprintf(choosing, label, option))
}

// Tick ticks the box that a selector finds, wherever the page moves it meanwhile.
func (p *Page) Tick(selector string) {
	p.t.Helper()
	p.Wait("a box to tick: "+selector, fmt.Sprintf(`(box => { if (box && !box.checked) box.click(); return box?.checked })(document.querySelector(%q))`, selector))
}

// Pressed tells the page of a key that is for the page itself: what the page takes is not typed.
func (p *Page) Pressed(key string, control bool) {
	p.t.Helper()
	p.Do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.body.dispatchEvent(new KeyboardEvent("keydown", { key: %q, ctrlKey: %t, bubbles: true }))`, key, control)))
}

// Value evaluates an expression of the page, which gives a text.
func (p *Page) Value(expression string) string {
	p.t.Helper()
	text, err := chromedp.Run(p.Tab, chromedp.Evaluate[string](expression))
	require.NoError(p.t, err)
	return text
}

// Wait waits until a condition of the page holds; what says which.
func (p *Page) Wait(what, condition string) {
	p.t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(turn) {
		if p.Value("String(Boolean("+condition+"))") == "true" {
			return
		}
	}
	p.t.Fatalf("waited for %s; the page shows: %s", what, p.Text("body"))
}

// Settle waits until what slides or fades in has done so.
func (p *Page) Settle() {
	p.t.Helper()
	p.Wait("the page to come to rest", `document.getAnimations().every(a => a.playState !== "running" || a.effect.getComputedTiming().endTime === Infinity)`)
}

// Fits asserts that nothing of the page lies beyond the side of the window.
func (p *Page) Fits(name string) {
	p.t.Helper()
	assert.Equal(p.t, "0", p.Value(`String(Math.max(0, document.documentElement.scrollWidth - innerWidth))`), "pixels of %s beyond the window", name)
}

// Text is what a part of the page says.
func (p *Page) Text(css string) string {
	p.t.Helper()
	text, err := chromedp.Run(p.Tab, chromedp.Text(chromedp.CSS(css)))
	require.NoError(p.t, err)
	return text
}

// Shows waits until a part of the page says text. The part may be drawn anew while
// it is being read; then it is read again.
func (p *Page) Shows(css, text string) {
	p.t.Helper()
	shown := ""
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(turn) {
		ctx, stop := context.WithTimeout(p.Tab, 5*time.Second)
		now, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(css)))
		stop()
		if shown = now; err == nil && strings.Contains(now, text) {
			return
		}
	}
	require.Contains(p.t, shown, text)
}

// Over types in place of what a field holds.
func (p *Page) Over(css, text string) {
	p.t.Helper()
	p.See(css)
	for end := time.Now().Add(patience); ; time.Sleep(turn) { // the focus may go elsewhere while a dialog closes
		p.Do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).select()", css)))
		p.Fill(css, text)
		got := p.Value(fmt.Sprintf("document.querySelector(%q).value", css))
		if got == text {
			return
		}
		require.True(p.t, time.Now().Before(end), "%s holds %q after %q was typed", css, got, text)
	}
}

// fault is what the accessibility check says of a page.
type fault struct {
	ID, Impact, Help string
	Nodes            []struct{ HTML string }
}

// Accessible runs axe on the page that is shown, and asserts that it finds nothing serious, nor anything about contrast that
// it can't decide. With rules it looks at those only.
func (p *Page) Accessible(name string, rules ...string) {
	p.t.Helper()
	if p.Value("String(Boolean(window.axe))") == "false" {
		axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
		require.NoError(p.t, err)
		p.Do(chromedp.Evaluate[chromedp.Void]("(0, eval)(" + quotedJS(string(axe)) + "); undefined"))
	}
	only := ""
	if len(rules) > 0 {
		only = ", { runOnly: " + quotedJS(rules) + " }"
	}
	p.Do(chromedp.Evaluate[chromedp.Void]("window.found = ''; " +
		// Shapes beside words are no text, and a figure of one digit looks like the others; of controls and pictures, whose frames lie over their colours, theme.test.ts asserts the contrast.
		`var undecided = /only non-text characters|overlapped by another|obscured by another|contains an image|too short to determine/; ` +
		`axe.run({ exclude: ['.n-message-container'] }` + only + `).then(r => { window.found = JSON.stringify([...r.violations.filter(v => v.impact === "serious" || v.impact === "critical"), ...r.incomplete.filter(v => v.id === "color-contrast")]
			.map(v => ({ ID: v.id, Impact: v.impact, Help: v.help, Nodes: v.nodes.map(n => ({ HTML: n.html.slice(0, 160) + " " + (n.any[0]?.message ?? "") })).filter(n => !undecided.test(n.HTML)) })).filter(v => v.Nodes.length > 0)) }); undefined`))
	text := ""
	require.Eventually(p.t, func() bool {
		text, _ = chromedp.Run(p.Tab, chromedp.Evaluate[string]("window.found"))
		return text != ""
	}, patience, turn)
	var faults []fault
	require.NoError(p.t, json.Unmarshal([]byte(text), &faults))
	for _, f := range faults {
		for _, n := range f.Nodes {
			assert.Fail(p.t, name, "%s (%s): %s: %s", f.ID, f.Impact, f.Help, n.HTML)
		}
	}
}

func quotedJS(it any) string {
	quoted, _ := json.Marshal(it)
	return string(quoted)
}

// TabTo moves the focus with the Tab key until it is on a control that says text.
func (p *Page) TabTo(text string) {
	p.t.Helper()
	for range 150 {
		p.Do(chromedp.KeyEvent("\t"))
		says, err := chromedp.Run(p.Tab, chromedp.Evaluate[string](`(e => (e.getAttribute("aria-label") ?? "") + "|" + (e.innerText ?? "").trim().replace(/\s+/g, " ") + "|" + (e.name ?? ""))(document.activeElement)`))
		require.NoError(p.t, err)
		for _, one := range strings.Split(says, "|") {
			if one == text {
				return
			}
		}
	}
	p.t.Fatalf("the Tab key does not reach %q", text)
}

// Keys types with the keyboard, wherever the focus is.
func (p *Page) Keys(text string) { p.t.Helper(); p.Do(chromedp.KeyEvent(text)) }
