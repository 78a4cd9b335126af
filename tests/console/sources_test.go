package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/browser"
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
	p.Choose("It is", "a RADIUS server")
	p.Fill("input[name=servers]", "radius.example")
	p.Fill("input[name=secret]", r.Secret)
	p.Tick("input[name=makes]")
	p.Press("Add the source")
	p.Shows("form [role=alert]", "use HOST:PORT")
	p.Over("input[name=servers]", r.Address)
	p.Press("Add the source")
	p.Shows("table[aria-label=Sources]", r.Address)
	p.PressLabelled("Change tower")
	p.Fill("textarea[name=table]", "surveyors = nobody")
	p.Press("Save")
	p.Shows("form [role=alert]", "o group is named nobody")
	p.Over("textarea[name=table]", "surveyors = crews")
	p.Press("Save")
	p.Wait("it is saved", "!document.querySelector('textarea[name=table]')")
	p.PressLabelled("Check tower")
	p.Fill("input[name=check-account]", "ann")
	p.Fill("input[name=check-password]", "a gauge in the harbour")
	p.Press("Check")
	p.Shows("form [role=status]", "it is not asked for ann")
	p.Fill("input[name=pattern]", "a*")
	p.Fill("input[name=route-sources]", "tower own")
	p.Press("Add a route")
	p.Shows("#routes table", "tower, then own")
	p.PressLabelled("Remove tower")
	p.Press("Confirm")
	p.Shows("body", "t is needed by the route a*")
	var now struct{ Routes []map[string]any }
	k.Must(&now, "route", "list")
	require.Len(t, now.Routes, 1)
}

// An owner names a single sign-on that gives roles, and who has one signs in to the console by it.
func TestASingleSignOnInTheConsole(t *testing.T) {
	k := testkit.Start(t)
	provider := counterpart.StartOpenID(t, map[string]counterpart.Claims{"tom": {"preferred_username": "tom", "groups": []string{"it-desk"}}, "eve": {"preferred_username": "eve"}}, "http://"+k.ConsoleAddress()+"/sso/back")
	p, at := atTheConsole(t, k)
	at("/sources")
	p.Press("Add a source")
	p.Fill("input[name=source]", "hall")
	p.Choose("It is", "a single sign-on")
	p.Fill("input[name=servers]", provider.Address)
	p.Fill("input[name=knownAs]", provider.Client)
	p.Fill("input[name=secret]", provider.Secret)
	p.Fill("input[name=label]", "City hall")
	p.Over("input[name=scopes]", "profile groups")
	p.Fill("textarea[name=roles]", "it-desk = king")
	p.Press("Add the source")
	p.Shows("form [role=alert]", "as in it-desk=manager")
	p.Over("textarea[name=roles]", "it-desk = manager")
	p.Press("Add the source")
	p.Shows("table[aria-label=Sources]", "OpenID Connect")
	p.PressLabelled("Check hall")
	p.Press("Check")
	p.Shows("form [role=status]", "/sso/back")
	p.Press("Sign out")
	enter := func(name string) {
		p.Press("Sign in with City hall")
		p.Fill("input[name=login]", name)
		p.Fill("input[name=password]", "any")
		p.Press("Sign-in")
		p.Press("Continue")
	}
	enter("eve")
	p.Shows("form [role=alert]", "did not let you in")
	p.Accessible("signing in")
	p = browser.On(t) // whom the provider does not know yet
	at = func(path string) { p.Do(chromedp.Navigate("http://" + k.ConsoleAddress() + "/console" + path)) }
	at("/")
	enter("tom")
	p.Shows("nav", "tom, manager")
	at("/operators")
	p.Shows("table[aria-label=Operators]", "hall")
}

// A key on the shelf is put there, given to accounts, and taken away with the last of them.
func TestTheShelfInTheConsole(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("ben")
	p, at := atTheConsole(t, k)
	at("/shelf")
	p.Shows("main", "None yet")
	p.Press("Put a key on the shelf")
	p.Fill("input[name=shelf-name]", "bureau")
	p.Fill("input[name=owner]", "print bureau, Maren")
	p.Fill("textarea[name=public-key]", string(testkit.OnDisk(t, testkit.NewPair(t)+".pub")))
	p.Fill("input[name=accounts]", "ann, nobody")
	p.Press("Put it on the shelf")
	p.Shows("form [role=alert]", "nobody")
	p.Press("Cancel")
	p.Shows("table[aria-label=Keys]", "Maren")
	p.PressLabelled("Change bureau")
	p.Fill("input[name=accounts]", "ann, ben")
	p.Accessible("the form of a key on the shelf")
	p.Press("Save")
	p.Shows("table[aria-label=Keys]", "ann, ben")
	at("/accounts/ann")
	p.Shows(".drawer", "from the shelf: bureau")
	at("/shelf")
	p.PressLabelled("Remove bureau")
	p.Press("Confirm")
	p.Shows("body", "attached to 2 accounts")
}
