package sources

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/crewjam/saml"
	"github.com/crewjam/saml/logger"
	"github.com/crewjam/saml/samlsp"
	"github.com/go-jose/go-jose/v4"
	dsig "github.com/russellhaering/goxmldsig"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// liar is a provider of OpenID Connect that says what a test wants.
type liar struct {
	*httptest.Server
	t        *testing.T
	key      *rsa.PrivateKey
	redirect url.Values                                  // besides code and state
	about    func(map[string]any)                        // changes what it says about itself
	claims   func(map[string]any)                        // changes the ID token
	sign     func(claims []byte) (token string, e error) // nil: as is right
	facts    map[string]any                              // what it says besides
}

func newKey(t *testing.T) *rsa.PrivateKey {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	return key
}

func newLiar(t *testing.T) *liar {
	l := &liar{t: t, key: newKey(t)}
	l.Server = httptest.NewServer(l)
	t.Cleanup(l.Close)
	return l
}

func signed(key any, how jose.SignatureAlgorithm) func([]byte) (string, error) {
	return func(claims []byte) (string, error) {
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: how, Key: jose.JSONWebKey{Key: key, KeyID: "one"}}, nil)
		if err != nil {
			return "", err
		}
		made, err := signer.Sign(claims)
		if err != nil {
			return "", err
		}
		return made.CompactSerialize()
	}
}

func (l *liar) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	answer := map[string]any{}
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer = map[string]any{"issuer": l.URL, "authorization_endpoint": l.URL + "/auth", "token_endpoint": l.URL + "/token", "jwks_uri": l.URL + "/keys", "userinfo_endpoint": l.URL + "/me", "id_token_signing_alg_values_supported": []string{"RS256"}}
		if l.about != nil {
			l.about(answer)
		}
	case "/keys":
		answer["keys"] = []any{jose.JSONWebKey{Key: l.key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}
	case "/auth":
		back := url.Values{"code": {r.FormValue("nonce")}, "state": {r.FormValue("state")}}
		for name, values := range l.redirect {
			back[name] = values
		}
		http.Redirect(w, r, r.FormValue("redirect_uri")+"?"+back.Encode(), http.StatusFound)
		return
	case "/token":
		claims := map[string]any{"iss": l.URL, "sub": "person-1", "aud": "files", "nonce": r.FormValue("code"), "iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix(), "preferred_username": "ann", "email": "ann@portselwyn.example", "groups": []string{"surveyors"}}
		if l.claims != nil {
			l.claims(claims)
		}
		text, err := json.Marshal(claims)
		assert.NoError(l.t, err)
		sign := l.sign
		if sign == nil {
			sign = signed(l.key, jose.RS256)
		}
		token, err := sign(text)
		assert.NoError(l.t, err)
		answer = map[string]any{"access_token": "abc", "token_type": "Bearer", "id_token": token}
	case "/me":
		if answer = l.facts; answer == nil {
			answer = map[string]any{"sub": "person-1"}
		}
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(answer)
}

const clientSecret = "known-to-both-sides-7"

// believing is a service that takes a liar for its provider.
func believing(t *testing.T) (*house, *liar) {
	h, l := &house{Keep: testkit.Start(t), t: t}, newLiar(t)
	h.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	_, said, status := h.CLIWith(clientSecret+"\n", "source", "add", "hall", l.URL, "-known-as", "files", "-makes", "-group", "crews", "-role", "it-desk=owner")
	require.Zero(t, status, said)
	h.Must(nil, "route", "add", "*", "hall")
	return h, l
}

func set(name string, value any) func(map[string]any) {
	return func(claims map[string]any) { claims[name] = value }
}

// Whatever is wrong with an ID token, nobody gets in with it, and only the trail says why.
func TestForgedTokensAreRefused(t *testing.T) {
	h, l := believing(t)
	another, atConsole := newKey(t), 0
	for name, lie := range map[string]struct {
		liar
		why string
	}{
		"an audience of another":    {liar{claims: set("aud", "mail")}, "expected audience"},
		"another nonce":             {liar{claims: set("nonce", "xyz")}, "another nonce"},
		"no nonce":                  {liar{claims: func(c map[string]any) { delete(c, "nonce") }}, "another nonce"},
		"another issuer":            {liar{claims: set("iss", "https://id.example")}, "issued by a different provider"},
		"a token that is over":      {liar{claims: set("exp", time.Now().Add(-time.Minute).Unix())}, "expired"},
		"one audience, of another":  {liar{claims: set("azp", "mail")}, "azp"},
		"made long ago":             {liar{claims: set("iat", time.Now().Add(-time.Hour).Unix())}, "just now"},
		"two audiences, of another": {liar{claims: func(c map[string]any) { c["aud"], c["azp"] = []string{"files", "mail"}, "mail" }}, "azp"},
		"no signature": {liar{sign: func(c []byte) (string, error) {
			return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + base64.RawURLEncoding.EncodeToString(c) + ".", nil
		}}, "malformed jwt"},
		"signed with the secret":       {liar{sign: signed([]byte(clientSecret+clientSecret), jose.HS256)}, "malformed jwt"},
		"signed with another key":      {liar{sign: signed(another, jose.RS256)}, "failed to verify"},
		"no token at all":              {liar{sign: func([]byte) (string, error) { return "", nil }}, "no ID token"},
		"facts about somebody else":    {liar{claims: func(c map[string]any) { delete(c, "preferred_username") }, facts: map[string]any{"sub": "person-2", "preferred_username": "root"}}, "about somebody else"},
		"two names":                    {liar{claims: set("preferred_username", []string{"ann", "root"})}, "2 names"},
		"no name":                      {liar{claims: func(c map[string]any) { delete(c, "preferred_username") }, facts: map[string]any{"sub": "person-1"}}, "no name"},
		"an answer of another":         {liar{redirect: url.Values{"iss": {"https://id.example"}}}, "another provider"},
		"a provider that says no":      {liar{redirect: url.Values{"error": {"access_denied"}}}, "access_denied"},
		"nobody for ever":              {liar{claims: set("sub", "")}, "for ever"},
		"a name that is a path":        {liar{claims: set("preferred_username", "../root")}, "name that no account can have"},
		"the name of the open account": {liar{claims: set("preferred_username", "FTP")}, "name that no account can have"},
	} {
		l.claims, l.sign, l.redirect, l.facts = lie.claims, lie.sign, lie.redirect, lie.facts
		who := h.person()
		require.Equal(t, "/portal/#not-signed-in", who.signIn(portalSSO, "hall", "", ""), name)
		assert.Empty(t, who.me().Account, name)
		assert.Contains(t, h.records("sign-in")[0].Detail, lie.why, name)
		if atConsole++; atConsole < 8 { // an address may try so often in a minute
			assert.Equal(t, "/console/sign-in?sso=refused#", h.person().signIn(consoleSSO, "hall", "", ""), name)
		}
	}
	assert.Empty(t, h.records("account-add"))
	l.claims, l.sign, l.redirect, l.facts = nil, nil, nil, nil
	ann := h.person()
	require.Equal(t, "/portal/#/", ann.signIn(portalSSO, "hall", "", ""))
	assert.Equal(t, "ann", ann.me().Account)

	// Somebody else who gets the name later is somebody else.
	l.claims = set("sub", "person-2")
	assert.Equal(t, "/portal/#not-signed-in", h.person().signIn(portalSSO, "hall", "", ""))
	assert.Contains(t, h.last("ann").Detail, "somebody else of that name")
	l.claims = nil

	// A browser that was not sent away is not the one that comes back; nobody comes back twice.
	victim, thief := h.person(), h.person()
	var back []string
	for _, who := range []*person{victim, thief} {
		who.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
			if r.URL.Path == "/sso/back" {
				back = append(back, r.URL.String())
				return http.ErrUseLastResponse
			}
			return nil
		}
	}
	for _, who := range []*person{victim, thief} {
		answer, text := who.read(who.Post("http://"+h.Address("web")+portalSSO, "application/json", strings.NewReader(`{"source":"hall"}`)))
		require.Equal(t, 200, answer.StatusCode, text)
		var went struct{ URL string }
		require.NoError(t, json.Unmarshal([]byte(text), &went))
		who.read(who.Get(went.URL))
	}
	require.Len(t, back, 2)
	for _, who := range []*person{victim, thief} {
		who.CheckRedirect = nil
	}
	answer, _ := thief.read(thief.Get(back[0]))
	assert.Equal(t, "not-signed-in", answer.Request.URL.Fragment)
	victim.read(victim.Get(back[1]))
	assert.Empty(t, victim.me().Account, "what another began signs nobody in")
	answer, _ = victim.read(victim.Get(back[0]))
	assert.Equal(t, "ann", victim.me().Account, answer.Request.URL)
	answer, text := h.person().read(victim.Get(back[0]))
	assert.Equal(t, 400, answer.StatusCode, text)
	assert.Contains(t, text, "answered already")

	// What it says about itself sends nobody where a page could do harm.
	for what, address := range map[string]string{"authorization_endpoint": "javascript:alert(1)", "token_endpoint": "http://id.example/token", "jwks_uri": "file:///etc/passwd"} {
		l.about = set(what, address)
		h.Must(nil, "source", "set", "hall", "-note", what) // read anew
		answer, text := victim.read(victim.Post("http://"+h.Address("web")+portalSSO, "application/json", strings.NewReader(`{"source":"hall"}`)))
		assert.Equal(t, 503, answer.StatusCode, text)
		_, _, status := h.CLI("source", "check", "hall")
		assert.Equal(t, 1, status)
	}
}

// party is a SAML provider that says what a test wants.
type party struct {
	saml.IdentityProvider
	folder string
	lie    func(*saml.Assertion) // before it is signed
}

func (p *party) GetServiceProvider(*http.Request, string) (*saml.EntityDescriptor, error) {
	text, err := os.ReadFile(filepath.Join(p.folder, "party.xml"))
	if err != nil {
		return nil, err
	}
	about, err := samlsp.ParseMetadata(text)
	if err == nil {
		keys := &about.SPSSODescriptors[0].KeyDescriptors
		*keys = slices.DeleteFunc(*keys, func(k saml.KeyDescriptor) bool { return k.Use == "encryption" }) // so that it does not encrypt
	}
	return about, err
}

func (p *party) GetSession(http.ResponseWriter, *http.Request, *saml.IdpAuthnRequest) *saml.Session {
	return &saml.Session{ID: "one", NameID: "ann", CreateTime: time.Now(), ExpireTime: time.Now().Add(time.Hour), UserName: "ann"}
}

func (p *party) MakeAssertion(r *saml.IdpAuthnRequest, s *saml.Session) error {
	if err := (saml.DefaultAssertionMaker{}).MakeAssertion(r, s); err != nil {
		return err
	}
	if r.Assertion.Subject.NameID.Format = string(saml.UnspecifiedNameIDFormat); p.lie != nil {
		p.lie(r.Assertion)
	}
	return nil
}

// Whatever is wrong with an assertion, nobody gets in with it, and only the trail says why.
func TestForgedAssertionsAreRefused(t *testing.T) {
	h := &house{Keep: testkit.Start(t), t: t}
	key := newKey(t)
	about := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "provider"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, about, about, key.Public(), key)
	require.NoError(t, err)
	certificate, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	p := &party{folder: t.TempDir()}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/metadata" {
			text, _ := xml.Marshal(p.Metadata())
			w.Write(text)
			return
		}
		p.ServeSSO(w, r)
	}))
	t.Cleanup(server.Close)
	at, err := url.Parse(server.URL)
	require.NoError(t, err)
	p.IdentityProvider = saml.IdentityProvider{Key: key, Certificate: certificate, MetadataURL: *at.JoinPath("metadata"), SSOURL: *at.JoinPath("sso"), SignatureMethod: dsig.RSASHA256SignatureMethod,
		ServiceProviderProvider: p, SessionProvider: p, AssertionMaker: p, Logger: logger.DefaultLogger}
	h.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	h.Must(nil, "source", "add", "tower", server.URL+"/metadata", "-saml", "-makes", "-group", "crews")
	h.Must(nil, "route", "add", "*", "tower")
	_, text := h.person().read(http.Get("http://" + h.Address("web") + "/sso/tower/metadata"))
	require.NoError(t, os.WriteFile(filepath.Join(p.folder, "party.xml"), []byte(text), 0o600))

	// Each browser goes to the provider and comes back with the form that is to be sent.
	brought := func(who *person) (*url.URL, string) {
		answer, text := who.read(who.Post("http://"+h.Address("web")+portalSSO, "application/json", strings.NewReader(`{"source":"tower"}`)))
		require.Equal(t, 200, answer.StatusCode, text)
		var went struct{ URL string }
		require.NoError(t, json.Unmarshal([]byte(text), &went))
		answer, text = who.read(who.Get(went.URL))
		require.Contains(t, text, "SAMLResponse")
		return answer.Request.URL, text
	}
	changed := func(page string, edit func(string) string) url.Values {
		for _, tag := range field.FindAllString(page, -1) {
			if name := named.FindStringSubmatch(tag); name != nil && name[1] == "SAMLResponse" {
				response, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(valued.FindStringSubmatch(tag)[1], "&#43;", "+"))
				require.NoError(t, err)
				after := edit(string(response))
				require.NotEqual(t, string(response), after)
				return url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString([]byte(after))}}
			}
		}
		return nil
	}
	for name, lie := range map[string]struct {
		before func(*saml.Assertion)
		after  func(string) string
		why    string
	}{
		"an audience of another": {func(a *saml.Assertion) { a.Conditions.AudienceRestrictions[0].Audience.Value = "https://mail.example" }, nil, "made for"},
		"no audience":            {func(a *saml.Assertion) { a.Conditions.AudienceRestrictions = nil }, nil, "for whom"},
		"two audiences": {func(a *saml.Assertion) {
			a.Conditions.AudienceRestrictions = append(a.Conditions.AudienceRestrictions, saml.AudienceRestriction{Audience: saml.Audience{Value: "x"}})
		}, nil, "made for"},
		"another recipient": {func(a *saml.Assertion) {
			a.Subject.SubjectConfirmations[0].SubjectConfirmationData.Recipient = "https://mail.example"
		}, nil, "Recipient"},
		"another request": {func(a *saml.Assertion) {
			a.Subject.SubjectConfirmations[0].SubjectConfirmationData.InResponseTo = "id-x"
		}, nil, "possible request IDs"},
		"no confirmation": {func(a *saml.Assertion) { a.Subject.SubjectConfirmations = nil }, nil, "no bearer SubjectConfirmation"},
		"no subject":      {func(a *saml.Assertion) { a.Subject = nil }, nil, "no Subject"},
		"no conditions":   {func(a *saml.Assertion) { a.Conditions = nil }, nil, "no Conditions"},
		"a session that has ended": {func(a *saml.Assertion) {
			ended := time.Now().Add(-time.Hour)
			a.AuthnStatements[0].SessionNotOnOrAfter = &ended
		}, nil, "session has ended"},
		"what is over":                {func(a *saml.Assertion) { a.Conditions.NotOnOrAfter = time.Now().Add(-time.Hour) }, nil, "expired"},
		"another issuer":              {func(a *saml.Assertion) { a.Issuer.Value = "https://id.example" }, nil, "issuer"},
		"a name for once":             {func(a *saml.Assertion) { a.Subject.NameID.Format = string(saml.TransientNameIDFormat) }, nil, "another name each time"},
		"another name, after signing": {nil, func(s string) string { return strings.ReplaceAll(s, ">ann<", ">root<") }, "could not be verified"},
		"no signature": {nil, func(s string) string {
			for {
				from, to := strings.Index(s, "<ds:Signature"), strings.Index(s, "</ds:Signature>")
				if from < 0 {
					return s
				}
				s = s[:from] + s[to+len("</ds:Signature>"):]
			}
		}, "ignature element not present"},
		"one that is wrapped": {nil, func(s string) string {
			from, to := strings.Index(s, "<saml:Assertion"), strings.Index(s, "</saml:Assertion>")+len("</saml:Assertion>")
			forged := strings.ReplaceAll(s[from:to], ">ann<", ">root<")
			return s[:from] + strings.Replace(forged, `ID="`, `ID="x`, 1) + s[from:]
		}, ""},
		"an entity": {nil, func(s string) string { return `<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]>` + s }, ""},
		"nothing":   {nil, func(string) string { return "" }, "no SAML response"},
		"deep XML": {nil, func(s string) string {
			return strings.Replace(s, "<saml:Assertion", strings.Repeat("<x>", 15_000)+strings.Repeat("</x>", 15_000)+"<saml:Assertion", 1)
		}, "no SAML response"},
		"many namespaces": {nil, func(s string) string {
			spaces := ""
			for n := range 3000 {
				spaces += fmt.Sprintf(` xmlns:n%d="u:%d"`, n, n)
			}
			return strings.Replace(s, "<saml:Assertion", "<x"+spaces+"/><saml:Assertion", 1)
		}, "no SAML response"},
		"a bomb": {nil, func(s string) string { return s + strings.Repeat(" ", 300<<10) }, "no SAML response"},
	} {
		p.lie = lie.before
		who := h.person()
		at, page := brought(who)
		fill := url.Values{}
		if lie.after != nil {
			fill = changed(page, lie.after)
		}
		answer, text := who.submit(page, at, fill)
		require.Equal(t, 200, answer.StatusCode, "%s: %s", name, text)
		if who.me().Account != "" { // then it was the part that is signed that counted
			require.Equal(t, "ann", who.me().Account, name)
			continue
		}
		assert.Equal(t, "not-signed-in", answer.Request.URL.Fragment, name)
		assert.Contains(t, h.records("sign-in")[0].Detail, lie.why, name)
	}
	p.lie = nil

	// What was brought once is good for nobody else, and for nothing else; unasked, it is good for nothing at all.
	ann, thief := h.person(), h.person()
	at1, page1 := brought(ann)
	answer, _ := ann.submit(page1, at1, nil)
	require.Equal(t, "/", answer.Request.URL.Fragment)
	require.Equal(t, "ann", ann.me().Account)
	answer, text = thief.submit(page1, at1, nil)
	assert.Equal(t, 400, answer.StatusCode, text)
	_, page2 := brought(thief)
	same := changed(page1, func(s string) string { return s + "\n" })
	thief.submit(page2, at1, same)
	assert.Empty(t, thief.me().Account, "another's assertion signs nobody in")
	at3, page3 := brought(ann)
	thief.submit(page3, at3, nil)
	assert.Empty(t, thief.me().Account, "what another browser began signs nobody in")
	answer, text = thief.read(thief.PostForm("http://"+h.Address("web")+"/sso/back", url.Values{"SAMLResponse": same["SAMLResponse"]}))
	assert.Equal(t, 400, answer.StatusCode, text)
	answer, err = thief.Post("http://"+h.Address("web")+"/sso/back", "application/x-www-form-urlencoded", io.LimitReader(zeros{}, 3<<20))
	if err == nil {
		answer.Body.Close()
		assert.Equal(t, 413, answer.StatusCode)
	}
	// Who is to be signed out at some time is: the portal asks anew.
	p.lie = func(a *saml.Assertion) {
		soon := time.Now().Add(6 * time.Second)
		a.AuthnStatements[0].SessionNotOnOrAfter = &soon
	}
	at4, page4 := brought(thief)
	thief.submit(page4, at4, nil)
	require.Equal(t, "ann", thief.me().Account)
	require.Eventually(t, func() bool { return thief.me().Account == "" }, testkit.Patience, 100*time.Millisecond)
	assert.Contains(t, h.records("sign-out")[0].Detail, "sign in again")
	assert.Equal(t, "ann", ann.me().Account, "whose sign-in has an hour left")
	for _, r := range h.records("sign-in") {
		assert.NotEqual(t, "root", r.Account, fmt.Sprint(r))
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'a'
	}
	return len(p), nil
}
