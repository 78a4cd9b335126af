// Package sso has a provider of single sign-on say who somebody is: by OpenID Connect (Core 1.0, the code flow with PKCE) or by
// SAML 2.0 (the web browser profile).
package sso
