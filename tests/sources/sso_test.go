package sources

import (
	"bytes"
	"encoding/json"
	"html"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/browser"
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
	_, port, err := net.SplitHostPort(h.Address("web"))
	require.NoError(t, err)
	p := counterpart.StartOpenID(t, people, "http://127.0.0.1:"+port+"/sso/back", "http://localhost:"+port+"/sso/back") // links name the host
	h.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	_, said, status := h.CLIWith(p.Secret+"\n", append([]string{"source", "add", "hall", p.Address, "-known-as", p.Client, "-makes", "-table", "surveyors=crews", "-scope", "profile", "-scope", "email", "-scope", "groups",
		"-suffix", "@portselwyn.example", "-role", "it-desk=manager", "-label", "City hall"}, flags...)...)
	require.Zero(t, status, said)
	h.Must(nil, "route", "add", "*@portselwyn.example", "hall")
	return h, p
}

// records are those of an action, the newest first.
func (h *house) records(action string) (found []keep.AuditRecord) {
	h.Must(&found, "audit", "-action", action)
	return found
}

func TestOpenIDSignsPeopleInToPortalAndConsole(t *testing.T) {
	h, p := withOpenID(t, map[string]counterpart.Claims{
		"ann":       {"sub": "person-1", "preferred_username": "ann", "email": "ann@portselwyn.example", "email_verified": true, "groups": []string{"surveyors", "it-desk"}},
		"ben":       {"preferred_username": "ben", "groups": []string{"others"}},
		"carl":      {"preferred_username": "carl", "email": "harbour@portselwyn.example", "email_verified": false, "groups": []string{"surveyors"}},
		"dora":      {"preferred_username": "dora", "groups": []string{"surveyors", "it-desk"}},
		"anonymous": {"preferred_username": "anonymous", "groups": []string{"surveyors", "it-desk"}},
		"eve":       {"preferred_username": "../eve", "groups": []string{"surveyors"}},
	})
	ann := h.person()
	assert.Equal(t, "/portal/#/", ann.signIn(portalSSO, "hall", "", "ann"))
	assert.Equal(t, "ann@portselwyn.example", ann.me().Account)
	var a api.Account
	h.Must(&a, "account", "show", "ann@portselwyn.example")
	assert.Equal(t, []string{"hall", "ann@portselwyn.example"}, []string{a.Source, a.Mail})
	assert.Equal(t, []string{"crews"}, a.Groups)
	assert.Equal(t, "single sign-on, says hall", h.last("ann@portselwyn.example").Detail)
	assert.Contains(t, h.records("account-add")[0].Operator, "source hall")

	// No password opens such an account.
	require.Error(t, h.ftps("ann@portselwyn.example", password))
	assert.Contains(t, h.last("ann@portselwyn.example").Detail, "hall signs people in with a browser only")

	// Who has just signed in need not prove that once more; nobody else may.
	answer, text := ann.read(ann.Post("http://"+h.Address("web")+"/portal/api/v1/account/tokens", "application/json", strings.NewReader(`{"now":"","label":"nightly","path":"/","rights":["list"],"days":2}`)))
	assert.Equal(t, 200, answer.StatusCode, text)

	// What is not to be: no home, a name that is taken by another source, an address that nobody has verified, names that mean something else.
	h.Account("dora@portselwyn.example")
	for name, why := range map[string]string{"ben": "can't be as hall says", "dora": "comes from own", "eve": "a name that no account can have"} {
		other := h.person()
		assert.Equal(t, "/portal/#not-signed-in", other.signIn(portalSSO, "hall", "", name))
		assert.Empty(t, other.me().Account)
		assert.Contains(t, h.records("sign-in")[0].Detail, why, name)
	}
	assert.Equal(t, "/portal/#/", h.person().signIn(portalSSO, "hall", "", "carl"))
	h.Must(&a, "account", "show", "carl@portselwyn.example")
	assert.Empty(t, a.Mail)

	// Operators are made where a group has a role; an operator of our own is not taken over.
	desk := h.person()
	assert.Equal(t, "/console/#", desk.signIn(consoleSSO, "hall", "", "ann"))
	answer, text = desk.read(desk.Get("http://" + h.Address("web") + "/api/v1/me"))
	assert.Equal(t, 200, answer.StatusCode)
	assert.Contains(t, text, `"role":"manager"`)
	assert.Equal(t, "/console/sign-in?sso=refused#", h.person().signIn(consoleSSO, "hall", "", "carl"))
	assert.Contains(t, h.records("operator-sign-in")[0].Detail, "no group that has a role")
	h.AddOperator("dora@portselwyn.example", "owner")
	assert.Equal(t, "/console/sign-in?sso=refused#", h.person().signIn(consoleSSO, "hall", "", "dora"))
	assert.Contains(t, h.records("operator-sign-in")[0].Detail, "does not come from there")
	_, said, status := h.CLIWith("", "operator", "set", "ann@portselwyn.example", "-role", "owner")
	require.Zero(t, status, said)
	assert.Equal(t, "/console/#", h.person().signIn(consoleSSO, "hall", "", "ann"))
	assert.Contains(t, h.records("operator-set")[0].Detail, "role manager, was owner, as its source says")
	assert.Contains(t, h.Refused("source", "remove", "hall"), "2 accounts, 1 operator")

	// While the provider is away nobody gets in, and is told so soon.
	p.Stop()
	h.Must(nil, "source", "set", "hall", "-note", "gone") // what it said about itself is forgotten with that
	h.Must(nil, "source", "set", "hall", "-timeout", "1s")
	began := time.Now()
	answer, text = ann.read(ann.Post("http://"+h.Address("web")+portalSSO, "application/json", strings.NewReader(`{"source":"hall"}`)))
	assert.Equal(t, 503, answer.StatusCode, text)
	assert.Less(t, time.Since(began), 3*time.Second)
}

// A SAML provider signs responses or assertions, and encrypts them or not; SHA-1 is not taken.
func TestSAMLSignsPeopleIn(t *testing.T) {
	people := map[string]map[string][]string{"ann": {"id": {"person-7"}, "uid": {"ann"}, "mail": {"ann@portselwyn.example"}, "groups": {"surveyors", "it-desk"}}}
	for name, how := range map[string]counterpart.SAMLProvider{"assertions that are encrypted": {People: people, Hash: "sha256", Encrypt: true}, "responses": {People: people, Hash: "sha512", Responses: true}, "with SHA-1": {People: people, Hash: "sha1"}} {
		t.Run(name, func(t *testing.T) {
			h := &house{Keep: testkit.Start(t), t: t}
			p, folder := how.StartSAML(t)
			h.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
			h.Must(nil, "source", "add", "tower", p.Address, "-saml", "-makes", "-table", "surveyors=crews", "-name-attribute", "uid", "-mail-attribute", "mail", "-role", "it-desk=auditor")
			h.Must(nil, "route", "add", "*", "tower", "own")
			answer, about := h.person().read(http.Get("http://" + h.Address("web") + "/sso/tower/metadata"))
			require.Equal(t, 200, answer.StatusCode)
			assert.NotContains(t, about, "PRIVATE")
			require.NoError(t, os.WriteFile(filepath.Join(folder, "party.xml"), []byte(about), 0o600))
			ann := h.person()
			if how.Hash == "sha1" {
				assert.Equal(t, "/portal/#not-signed-in", ann.signIn(portalSSO, "tower", "", "ann"))
				assert.Contains(t, h.records("sign-in")[0].Detail, "SHA-1")
				return
			}
			assert.Equal(t, "/portal/#/", ann.signIn(portalSSO, "tower", "", "ann"))
			assert.Equal(t, "ann", ann.me().Account)
			assert.Equal(t, "/console/#", ann.signIn(consoleSSO, "tower", "", "ann"))
			assert.Contains(t, h.Must(nil, "operator", "list"), "tower")
		})
	}
}

// waiting is a stock client that waits for its holder to sign in with a browser.
type waiting struct {
	run  *exec.Cmd
	said string // the file with what it says
	link string // the address that it shows
	code string
}

var shownLink = regexp.MustCompile(`http://\S+/portal/#let-in=([A-Z0-9-]+)`)

// waits starts the stock client, which prints where it is, and waits until it shows a link. What may be killed is the one process
// that ssh is.
func (h *house) waits(program, account string) *waiting {
	w := &waiting{said: filepath.Join(h.t.TempDir(), "said")}
	said, err := os.Create(w.said)
	require.NoError(h.t, err)
	defer said.Close()
	w.run = exec.Command(program, h.asking(program, account)...)
	w.run.Stdin, w.run.Stdout, w.run.Stderr = strings.NewReader("pwd\nmkdir by-link\n"), said, said
	require.NoError(h.t, w.run.Start())
	h.t.Cleanup(func() { w.run.Process.Kill(); w.run.Wait() })
	require.Eventually(h.t, func() bool {
		found := shownLink.FindStringSubmatch(w.text())
		if found != nil {
			w.link, w.code = found[0], found[1]
		}
		return found != nil
	}, testkit.Patience, 20*time.Millisecond, "waited for the client to show a link")
	return w
}

// asking is how the stock client answers questions.
func (h *house) asking(program, account string) []string {
	args := append([]string{"-o", "BatchMode=no", "-o", "PreferredAuthentications=publickey,keyboard-interactive", "-o", "NumberOfPasswordPrompts=1"}, h.SSHOptions(os.DevNull)[1:]...)
	if program == "ssh" {
		return append(args[:6], append(append([]string{"-p"}, args[7:]...), "-s", account+"@127.0.0.1", "sftp")...)
	}
	return append(args, account+"@127.0.0.1")
}

func (w *waiting) text() string {
	text, _ := os.ReadFile(w.said)
	return string(text)
}

// The stock client shows a link, its holder signs in with a browser, and the client goes on by itself.
func TestSFTPGoesOnByALinkOnceTheBrowserHasSignedIn(t *testing.T) {
	h, _ := withOpenID(t, map[string]counterpart.Claims{"ann": {"preferred_username": "ann", "groups": []string{"surveyors"}}, "ben": {"preferred_username": "ben", "groups": []string{"surveyors"}}})
	w := h.waits("sftp", "ann@portselwyn.example")
	page := browser.On(t)
	page.Do(chromedp.Navigate(w.link))
	page.Shows("main", "ann@portselwyn.example")
	page.Shows("main", "127.0.0.1")
	page.Press("Sign in with City hall and let it in")
	page.Fill("input[name=login]", "ann")
	page.Fill("input[name=password]", "any")
	page.Press("Sign-in")
	page.Press("Continue")
	page.Shows("main", "The client is signed in")
	require.NoError(t, w.run.Wait(), w.text())
	assert.Contains(t, w.text(), "Remote working directory: /")
	assert.Regexp(t, "single sign-on, says hall, in a browser at 127.0.0.1", h.last("ann@portselwyn.example").Detail)

	// Somebody else's sign-in opens nothing, and neither does a link twice.
	w = h.waits("sftp", "ann@portselwyn.example")
	assert.Equal(t, "/portal/#not-signed-in", h.person().signIn(portalSSO, "hall", w.code, "ben"))
	assert.Contains(t, h.records("sign-in")[0].Detail, "the link was for another account")
	assert.Equal(t, "/portal/#client-let-in", h.person().signIn(portalSSO, "hall", strings.ToLower(w.code), "ann"))
	require.NoError(t, w.run.Wait(), w.text())
	assert.Equal(t, "/portal/#not-signed-in", h.person().signIn(portalSSO, "hall", w.code, "ann"))

	// Whose it is not sends it away.
	w = h.waits("sftp", "ann@portselwyn.example")
	page.Do(chromedp.Navigate("about:blank"), chromedp.Navigate(w.link))
	page.Press("It is not mine")
	page.Shows("main", "was sent away")
	require.Error(t, w.run.Wait())
	assert.Contains(t, h.last("ann@portselwyn.example").Detail, "not theirs")

	// A client that leaves leaves no link behind.
	w = h.waits("ssh", "ann@portselwyn.example")
	require.NoError(t, w.run.Process.Kill())
	w.run.Wait()
	require.Eventually(t, func() bool {
		answer, _ := h.person().read(http.Get("http://" + h.Address("web") + "/portal/api/v1/links/" + w.code))
		return answer.StatusCode == http.StatusNotFound
	}, testkit.Patience, 20*time.Millisecond)

	// One address makes only so many wait; a name of nobody is offered a link like all others.
	var all []*waiting
	for range 3 {
		all = append(all, h.waits("ssh", "nobody@portselwyn.example"))
	}
	assert.NotEqual(t, all[0].code, all[1].code)
	for range 17 {
		all = append(all, h.waits("ssh", "ann@portselwyn.example"))
	}
	out, err := testkit.Run(t, "pwd\n", "sftp", h.asking("sftp", "ann@portselwyn.example")...)
	require.Error(t, err, out)
	assert.NotContains(t, out, "let-in")
	for _, one := range all {
		one.run.Process.Kill()
		one.run.Wait()
	}

	// Where passwords do as well, they are asked for, and an empty one shows the link.
	h.Must(nil, "route", "add", "mixed-*", "hall", "own")
	h.Account("mixed-own")
	said, err := h.talk("mixed-own", testkit.Password)
	require.NoError(t, err)
	assert.Equal(t, "To sign in with a browser, leave the password empty.", said[0])
}
