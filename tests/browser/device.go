package browser

import (
	"context"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
)

// Device gives the browser something that keeps passkeys and knows its owner.
func (p *Page) Device() {
	p.t.Helper()
	p.Do(func(ctx context.Context, tab *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, tab, webauthn.Enable, webauthn.EnableParams{})
		if err == nil {
			_, err = cdp.Call(ctx, tab, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
				Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}})
		}
		return chromedp.Void{}, err
	})
}
