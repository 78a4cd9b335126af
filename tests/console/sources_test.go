package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// An owner names a RADIUS server as a source, checks it, has it asked, and can't remove it while it is.
func TestSourcesInTheConsole(t *testing.T) {
	k := testkit.Start(t)
	r := counterpart.StartFreeRadius(t, "ann Cleartext-Password := \"a gauge in the harbour\"\n", true)
	k.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	p, at := atTheConsole(t, k)
	at("/sources")
	p.Shows("main", "the only source")
	p.Press("Add a source")
	p.Fill("input[name=source]", "tower")
	p.Do(chromedp.Click(chromedp.Search("//label[starts-with(., 'It is')]//div[contains(@class, 'n-base-selection')]")))
	p.Do(chromedp.Click(chromedp.Search("//*[contains(@class, 'n-base-select-option__content')][text()='a RADIUS server']")))
	p.Fill("input[name=servers]", "radius.example")
	p.Fill("input[name=secret]", r.Secret)
	p.Do(chromedp.Click(chromedp.CSS("input[name=makes]")))
	p.Press("Add the source")
	p.Shows("form [role=alert]", "use HOST:PORT")
	p.Over("input[name=servers]", r.Address)
	p.Press("Add the source")
	p.Shows("table[aria-label=Sources]", r.Address)
	p.Do(chromedp.Click(chromedp.CSS("button[aria-label='Change tower']")))
	p.Fill("textarea[name=table]", "surveyors = nobody")
	p.Press("Save")
	p.Shows("form [role=alert]", "o group is named nobody")
	p.Over("textarea[name=table]", "surveyors = crews")
	p.Press("Save")
	p.Wait("it is saved", "!document.querySelector('textarea[name=table]')")
	p.Do(chromedp.Click(chromedp.CSS("button[aria-label='Check tower']")))
	p.Fill("input[name=check-account]", "ann")
	p.Fill("input[name=check-password]", "a gauge in the harbour")
	p.Press("Check")
	p.Shows("form [role=status]", "it is not asked for ann")
	p.Fill("input[name=pattern]", "a*")
	p.Fill("input[name=route-sources]", "tower own")
	p.Press("Add a route")
	p.Shows("#routes table", "tower, then own")
	p.Do(chromedp.Click(chromedp.CSS("button[aria-label='Remove tower']")))
	p.Press("Confirm")
	p.Shows("body", "t is needed by the route a*")
	var now struct{ Routes []map[string]any }
	k.Must(&now, "route", "list")
	require.Len(t, now.Routes, 1)
}
