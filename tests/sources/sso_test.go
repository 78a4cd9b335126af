package sources

import (
	"bytes"
	"encoding/json"
	"html"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// person is somebody with a browser, who does not run scripts.
type person struct {
	*http.Client
	h *house
}

func (h *house) person() *person {
	jar, err := cookiejar.New(nil)
	require.NoError(h.t, err)
	return &person{&http.Client{Jar: jar, Timeout: testkit.Patience}, h}
}

func (h *house) json(it any) []byte {
	text, err := json.Marshal(it)
	require.NoError(h.t, err)
	return text
}

var (
	field  = regexp.MustCompile(`<(?:input|button)[^>]*>`)
	named  = regexp.MustCompile(` name="([^"]*)"`)
	valued = regexp.MustCompile(` value="([^"]*)"`)
	action = regexp.MustCompile(`<form[^>]*action="([^"]*)"`)
)

// submit sends the form of a page, with some fields filled in.
func (p *person) submit(page string, at *url.URL, fill url.Values) (*http.Response, string) {
	form := url.Values{}
	for _, tag := range field.FindAllString(page, -1) {
		if name := named.FindStringSubmatch(tag); name != nil {
			form.Set(html.UnescapeString(name[1]), html.UnescapeString(append(valued.FindStringSubmatch(tag), "", "")[1]))
		}
	}
	for name, values := range fill {
		form[name] = values
	}
	to := at
	if found := action.FindStringSubmatch(page); found != nil && found[1] != "?" {
		var err error
		to, err = at.Parse(html.UnescapeString(found[1]))
		require.NoError(p.h.t, err)
	}
	return p.read(p.PostForm(to.String(), form))
}

func (p *person) read(answer *http.Response, err error) (*http.Response, string) {
	require.NoError(p.h.t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(p.h.t, err)
	return answer, string(text)
}

// signIn signs in by single sign-on from a page of the service to its end, and gives the address where the browser is then.
func (p *person) signIn(begin, source, link, name string) string {
	p.h.t.Helper()
	origin := "http://" + p.h.Address("web")
	var went api.SSOGo
	answer, text := p.read(p.Post(origin+begin, "application/json", bytes.NewReader(p.h.json(api.SSOLeave{Source: source, Link: link}))))
	require.Equal(p.h.t, http.StatusOK, answer.StatusCode, text)
	require.NoError(p.h.t, json.Unmarshal([]byte(text), &went))
	answer, text = p.read(p.Get(went.URL))
	for range 6 { // pages of the provider
		if answer.Request.URL.Host == p.h.Address("web") || !strings.Contains(text, "<form") {
			break
		}
		answer, text = p.submit(text, answer.Request.URL, url.Values{"login": {name}, "username": {name}, "password": {name}})
	}
	at := answer.Request.URL
	require.Equal(p.h.t, p.h.Address("web"), at.Host, text)
	return at.RequestURI() + "#" + at.Fragment
}

func (p *person) me() (who api.PortalHolder) {
	answer, text := p.read(p.Get("http://" + p.h.Address("web") + "/portal/api/v1/me"))
	if answer.StatusCode == http.StatusOK {
		require.NoError(p.h.t, json.Unmarshal([]byte(text), &who))
	}
	return who
}

const portalSSO, consoleSSO = "/portal/api/v1/sso", "/api/v1/sign-in/sso"

// withOpenID is a service whose people come from a provider of OpenID Connect.
func withOpenID(t *testing.T, people map[string]counterpart.Claims, flags ...string) (*house, *counterpart.Provider) {
	h := &house{Keep: testkit.Start(t), t: t}
	p := counterpart.StartOpenID(t, people, "http://"+h.Address("web")+"/sso/back")
	h.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	_, said, status := h.CLIWith(p.Secret+"\n", append([]string{"source", "add", "hall", p.Address, "-known-as", p.Client, "-makes", "-table", "surveyors=crews", "-scope", "profile", "-scope", "email", "-scope", "groups",
		"-suffix", "@portselwyn.example", "-role", "it-desk=manager", "-label", "City hall"}, flags...)...)
	require.Zero(t, status, said)
	h.Must(nil, "route", "add", "*@portselwyn.example", "hall")
	return h, p
}

func TestOpenIDSignsPeopleInToPortalAndConsole(t *testing.T) {
	h, _ := withOpenID(t, map[string]counterpart.Claims{
		"ann": {"preferred_username": "ann", "email": "ann@portselwyn.example", "email_verified": true, "groups": []string{"surveyors", "it-desk"}},
		"ben": {"preferred_username": "ben", "email": "ben@portselwyn.example", "email_verified": false, "groups": []string{"others"}},
	})
	ann := h.person()
	assert.Equal(t, "/portal/#/", ann.signIn(portalSSO, "hall", "", "ann"))
	assert.Equal(t, "ann@portselwyn.example", ann.me().Account)
	var a api.Account
	h.Must(&a, "account", "show", "ann@portselwyn.example", "-json")
	assert.Equal(t, "hall", a.Source)
	assert.Equal(t, "ann@portselwyn.example", a.Mail)
}

func TestSAMLSignsPeopleIn(t *testing.T) {
	h := &house{Keep: testkit.Start(t), t: t}
	p, folder := counterpart.SAMLProvider{People: map[string]map[string][]string{"ann": {"id": {"person-7"}, "uid": {"ann"}, "mail": {"ann@portselwyn.example"}, "groups": {"surveyors"}}}, Hash: "sha256", Encrypt: true}.StartSAML(t)
	h.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	h.Must(nil, "source", "add", "tower", p.Address, "-saml", "-makes", "-table", "surveyors=crews", "-name-attribute", "uid", "-mail-attribute", "mail")
	h.Must(nil, "route", "add", "*", "tower", "own")
	answer, err := http.Get("http://" + h.Address("web") + "/sso/tower/metadata")
	require.NoError(t, err)
	about, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "party.xml"), about, 0o600))
	ann := h.person()
	assert.Equal(t, "/portal/#/", ann.signIn(portalSSO, "tower", "", "ann"))
	assert.Equal(t, "ann", ann.me().Account)
}
