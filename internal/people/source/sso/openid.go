package sso

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

// openID speaks OpenID Connect.
type openID struct {
	set    *keep.Source
	client *http.Client
	known  remembered[*discovered]
}

// discovered is what a provider says about itself (OpenID Connect Discovery 1.0, section 3).
type discovered struct {
	*oidc.Provider
	NamesItself bool   `json:"authorization_response_iss_parameter_supported"` // RFC 9207, section 3
	Keys        string `json:"jwks_uri"`
}

func (o *openID) discover(ctx context.Context) (*discovered, error) {
	p, err := oidc.NewProvider(oidc.ClientContext(ctx, o.client), o.set.Servers[0])
	if err != nil {
		return nil, away(ctx, "what it says about itself can't be read", err)
	}
	found := &discovered{Provider: p}
	if err := p.Claims(found); err != nil {
		return nil, away(ctx, "what it says about itself can't be read", err)
	}
	at := p.Endpoint()
	for what, address := range map[string]string{"sign-in": at.AuthURL, "tokens": at.TokenURL, "keys": found.Keys, "facts": cmp.Or(p.UserInfoEndpoint(), o.set.Servers[0])} {
		if !o.set.Reaches(address) {
			return nil, &source.Away{Cause: fmt.Errorf("its address for %s, %q, is no https:// address", what, address)}
		}
	}
	return found, nil
}

func (o *openID) get(ctx context.Context) (*discovered, error) {
	return o.known.get(func() (*discovered, error) { return o.discover(ctx) })
}

func (o *openID) config(p *discovered, origin string) *oauth2.Config {
	return &oauth2.Config{ClientID: o.set.KnownAs, ClientSecret: o.set.Secret.Reveal(), Endpoint: p.Endpoint(), RedirectURL: origin + keep.SSOBack,
		Scopes: append([]string{oidc.ScopeOpenID}, o.set.Scopes...)}
}

func (o *openID) begin(ctx context.Context, origin string) (string, source.Journey, error) {
	p, err := o.get(ctx)
	if err != nil {
		return "", source.Journey{}, err
	}
	j := source.Journey{Origin: origin, State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier()}
	return o.config(p, origin).AuthCodeURL(j.State, oidc.Nonce(j.Nonce), oauth2.S256ChallengeOption(j.Verifier)), j, nil
}

// end follows OpenID Connect Core 1.0, sections 3.1.2.5 to 3.1.3.7.
func (o *openID) end(ctx context.Context, j source.Journey, answer url.Values) (*source.Listed, error) {
	p, err := o.get(ctx)
	if err != nil {
		return nil, err
	}
	issuer := answer.Get("iss")
	switch {
	case answer.Get("error") != "":
		return nil, fmt.Errorf("it says: %.200q", cmp.Or(answer.Get("error_description"), answer.Get("error")))
	case issuer != "" && issuer != o.set.Servers[0], issuer == "" && p.NamesItself:
		return nil, fmt.Errorf("the answer comes from %.200q, another provider (RFC 9207)", issuer)
	case answer.Get("code") == "":
		return nil, errors.New("the answer has no code")
	}
	ctx = oidc.ClientContext(ctx, o.client)
	tokens, err := o.config(p, j.Origin).Exchange(ctx, answer.Get("code"), oauth2.VerifierOption(j.Verifier))
	if err != nil {
		var refused *oauth2.RetrieveError
		if errors.As(err, &refused) && refused.Response != nil && refused.Response.StatusCode < http.StatusInternalServerError {
			return nil, fmt.Errorf("it gives no tokens for the code: %.200s", cmp.Or(refused.ErrorDescription, refused.ErrorCode, refused.Response.Status))
		}
		return nil, away(ctx, "it gives no tokens", err)
	}
	raw, _ := tokens.Extra("id_token").(string)
	if raw == "" {
		return nil, errors.New("it gives no ID token")
	}
	token, err := p.Verifier(&oidc.Config{ClientID: o.set.KnownAs}).Verify(ctx, raw)
	if err != nil {
		return nil, fmt.Errorf("the ID token does not hold: %w", err)
	}
	said := claims{}
	if err := said.read(token.Claims); err != nil {
		return nil, err
	}
	switch {
	case token.Nonce != j.Nonce:
		return nil, errors.New("the ID token carries another nonce than the one that was sent")
	case (len(token.Audience) > 1 || said.first("azp") != "") && said.first("azp") != o.set.KnownAs:
		return nil, errors.New("the ID token was made for another client, which azp names")
	case time.Since(token.IssuedAt) > freshFor+clockSkew || time.Until(token.IssuedAt) > clockSkew:
		return nil, errors.New("the ID token was not made just now: is the clock right, here and there?")
	case token.AccessTokenHash != "" && token.VerifyAccessToken(tokens.AccessToken) != nil:
		return nil, errors.New("the ID token was made with another access token")
	}
	if err := o.more(ctx, p, tokens, token.Subject, said); err != nil {
		return nil, err
	}
	if said.first("email_verified") != "true" {
		if o.set.NameAttribute == "email" {
			return nil, errors.New("it has not verified the e-mail address, which is the name here")
		}
		delete(said, "email")
	}
	name, err := said.one(o.set.NameAttribute)
	if err != nil {
		return nil, err
	}
	id := ""
	if token.Subject != "" {
		id = token.Issuer + " " + token.Subject
	}
	return said.person(o.set, id, name)
}

// more reads what the ID token left out (section 5.3).
func (o *openID) more(ctx context.Context, p *discovered, tokens *oauth2.Token, subject string, said claims) error {
	wanted := []string{o.set.NameAttribute, o.set.MailAttribute}
	if len(o.set.Table)+len(o.set.Roles) > 0 {
		wanted = append(wanted, o.set.GroupAttribute)
	}
	if p.UserInfoEndpoint() == "" || !slices.ContainsFunc(wanted, func(name string) bool { return len(said[name]) == 0 }) {
		return nil
	}
	facts, err := p.UserInfo(ctx, oauth2.StaticTokenSource(tokens))
	if err != nil {
		return away(ctx, "it does not say more about them", err)
	}
	if facts.Subject != subject {
		return errors.New("what else it says is about somebody else")
	}
	besides := claims{}
	if err := besides.read(facts.Claims); err != nil {
		return err
	}
	for name, values := range besides {
		if len(said[name]) == 0 {
			said[name] = values
		}
	}
	return nil
}

// read takes claims that are texts, yes or no, numbers, or lists of texts.
func (c claims) read(from func(any) error) error {
	var all map[string]any
	if err := from(&all); err != nil {
		return fmt.Errorf("its claims can't be read: %w", err)
	}
	for name, value := range all {
		switch value := value.(type) {
		case string:
			c.add(name, value)
		case bool:
			c.add(name, strconv.FormatBool(value))
		case json.Number:
			c.add(name, value.String())
		case []any:
			for _, one := range value {
				if text, is := one.(string); is {
					c.add(name, text)
				}
			}
		}
	}
	return nil
}

func (c claims) first(name string) string { return append(c[name], "")[0] }

func (o *openID) describe(string) ([]byte, error) { return nil, errors.ErrUnsupported }

func (o *openID) check(ctx context.Context) (keep.Step, error) {
	o.known.forget()
	p, err := o.get(ctx)
	if err != nil {
		return keep.Step{}, err
	}
	return keep.Step{Name: "reached", OK: true, Say: "it is trusted, and people sign in at " + p.Endpoint().AuthURL}, nil
}
