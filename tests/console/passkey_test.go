package console_test

import (
	"context"
	"net"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"

	"urbankeep/tests/browser"
	"urbankeep/tests/testkit"
)

// device gives the browser something that keeps passkeys and knows its owner.
func device(t *testing.T, p *browser.Page) {
	p.Do(func(ctx context.Context, tab *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, tab, webauthn.Enable, webauthn.EnableParams{})
		if err == nil {
			_, err = cdp.Call(ctx, tab, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
				Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}})
		}
		return chromedp.Void{}, err
	})
}

func TestAnOperatorSignsInByPasskey(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("ilse", "owner")
	_, port, _ := net.SplitHostPort(k.ConsoleAddress())
	console := "http://localhost:" + port + "/console/"
	p := browser.On(t)
	device(t, p)
	p.Do(chromedp.Navigate(console + "operators"))
	p.Fill(`input[name="operator"]`, "ilse")
	p.Fill(`input[name="password"]`, testkit.Password)
	p.Press("Sign in")
	p.Press("Add a passkey")
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
