package console_test

import (
	"net"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"

	"urbankeep/tests/browser"
	"urbankeep/tests/testkit"
)

func TestAnOperatorSignsInByPasskey(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("ilse", "owner")
	_, port, _ := net.SplitHostPort(k.ConsoleAddress())
	console := "http://localhost:" + port + "/console/"
	p := browser.On(t)
	p.Device()
	p.Do(chromedp.Navigate(console + "operators"))
	p.Fill(`input[name="operator"]`, "ilse")
	p.Fill(`input[name="password"]`, testkit.Password)
	p.Press("Sign in")
	p.Press("Add a passkey")
	p.Fill(`input[name="now"]`, testkit.Password)
	p.Fill(`input[name="label"]`, "the blue key")
	p.Press("Add it")
	p.Shows("#own", "passkey for localhost")
	p.Press("Sign out")
	p.Press("Sign in with a passkey")
	p.Shows("h1", "Overview")
	assert.Contains(t, k.Must(nil, "audit", "-operator", "ilse", "-action", "operator-sign-in", "-json"), "with the passkey the blue key")
	p.Do(chromedp.Navigate(console + "operators"))
	p.Shows("#own", "last used")

	// Under another name of the same console it is nobody's; an operator's passkeys end when it is said.
	k.Must(nil, "operator", "set", "ilse", "-no-passkeys")
	p.Press("Sign out")
	p.Press("Sign in with a passkey")
	p.Shows("[role=alert]", "The passkey is not known here")
	k.Must(nil, "operator", "set", "ilse", "-role", "owner")
}
