package abuse_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
	"urbankeep/tests/testkit/sftptalk"
)

// attacker is one program that speaks HTTP to the web's faces.
type attacker struct {
	t    *testing.T
	base string
	http *http.Client
}

func attack(t *testing.T, k *testkit.Keep) *attacker {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	transport := &http.Transport{MaxIdleConnsPerHost: 4}
	t.Cleanup(transport.CloseIdleConnections)
	return &attacker{t, "http://" + k.Address("web"), &http.Client{Jar: jar, Transport: transport, Timeout: testkit.Patience}}
}

// ask gives the status and what came; whatever fails is no answer.
func (a *attacker) ask(method, at string, body []byte, headers ...string) (int, string, http.Header) {
	request, err := http.NewRequest(method, a.base+at, bytes.NewReader(body))
	if err != nil {
		return 0, "", nil
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	if strings.HasPrefix(at, "/dav/") {
		request.SetBasicAuth("ann", testkit.Password)
	}
	response, err := a.http.Do(request)
	if err != nil {
		return 0, "", nil
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(response.Body)
	return response.StatusCode, string(text), response.Header
}

func (a *attacker) portal(route string, ask any) int {
	text, _ := json.Marshal(ask)
	status, _, _ := a.ask("POST", "/portal/api/v1/"+route, text, "Content-Type", "application/json")
	return status
}

// Over every face at once a name is used in every way there is, while it is swapped between a folder and a link to one in which the
// account has no rights. Nothing in the closed folder is read, told, changed or added to; what nobody touched is where it was; and
// nothing is left that nobody sees.
func TestNoRaceOverAnyFaceLeadsAstray(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=full", "-grant", "/secret=none", "-passes", "both", "-protocols", "all,scp")
	home := k.Home("ann")
	const hidden = "what nobody may read, of a size of its own"
	for _, name := range []string{"secret/f", "secret/in/f", "secret/only-here", "safe/f", "safe/deep/g"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(home, name)), 0o750))
		require.NoError(t, os.WriteFile(filepath.Join(home, name), []byte(hidden), 0o640))
	}
	var pass api.PassMade
	require.NoError(t, os.Mkdir(filepath.Join(home, "x3"), 0o750))
	k.Must(&pass, "pass", "add", "ann", "/x3")
	require.NoError(t, os.Remove(filepath.Join(home, "x3")))
	link := pass.Link[strings.Index(pass.Link, "/pass/"):]
	var tries atomic.Int64
	saw := func(what, text string) {
		if strings.Contains(text, "nobody may") || strings.Contains(text, "only-here") {
			t.Errorf("%s told what is hidden, after %d tries", what, tries.Load())
		}
	}
	browser := attack(t, k)
	require.Equal(t, 200, browser.portal("sign-in", api.PortalSignIn{Account: "ann", Password: testkit.Password}))
	to := func(at string) []string { return []string{"Destination", "/dav" + at, "Overwrite", "T"} }
	uses := []func(a *attacker, x string, n int){
		func(a *attacker, x string, n int) { // what gives way, and what comes along
			a.ask("COPY", "/dav"+x, nil, to(fmt.Sprintf("/copy%d", n%3))...)
			a.ask("MOVE", "/dav"+x+"/in", nil, to(fmt.Sprintf("/moved%d", n%3))...)
			a.ask("COPY", "/dav/safe", nil, to(x)...)
			a.ask("MOVE", fmt.Sprintf("/dav/copy%d", n%3), nil, to(x+"/in")...)
			a.ask("DELETE", "/dav"+x+"/in", nil)
		},
		func(a *attacker, x string, _ int) {
			_, text, _ := a.ask("PROPFIND", "/dav"+x, nil, "Depth", "1")
			saw("a listing", text)
			_, text, _ = a.ask("GET", "/dav"+x+"/f", nil)
			saw("a file", text)
			a.ask("PUT", "/dav"+x+"/planted", []byte("x"))
			a.ask("LOCK", "/dav"+x+"/f", []byte(`<lockinfo xmlns="DAV:"><lockscope><shared/></lockscope><locktype><write/></locktype></lockinfo>`), "Timeout", "Second-1")
			a.ask("PROPPATCH", "/dav"+x+"/f", []byte(`<propertyupdate xmlns="DAV:"><set><prop><p xmlns="u:">v</p></prop></set></propertyupdate>`))
		},
		func(_ *attacker, x string, n int) {
			browser.portal("copies", api.PortalRename{Path: x, To: fmt.Sprintf("/p%d", n)})
			browser.portal("renames", api.PortalRename{Path: x + "/in", To: fmt.Sprintf("/q%d", n)})
			browser.portal("removals", api.PortalRemoval{Path: x, Inside: true})
			browser.portal("removals", api.PortalRemoval{Path: fmt.Sprintf("/p%d", n), Inside: true})
			_, text, _ := browser.ask("GET", "/portal/zip?path="+x, nil)
			saw("an archive", text)
		},
		func(_ *attacker, x string, n int) {
			about := "path " + base64.StdEncoding.EncodeToString(fmt.Appendf(nil, "%s/tus%d", x, n))
			_, _, h := browser.ask("POST", "/portal/api/v1/uploads", nil, "Tus-Resumable", "1.0.0", "Upload-Length", "10", "Upload-Metadata", about)
			if at := h.Get("Location"); at != "" {
				for from := range 2 {
					browser.ask("PATCH", at, []byte("12345"), "Tus-Resumable", "1.0.0", "Content-Type", "application/offset+octet-stream", "Upload-Offset", fmt.Sprint(5*from))
				}
				browser.ask("DELETE", at, nil, "Tus-Resumable", "1.0.0")
			}
		},
		func(a *attacker, _ string, _ int) {
			for _, at := range []string{"0/x3/f", "0/x3/only-here", "0/x3/", "zip"} {
				_, text, _ := a.ask("GET", link+at, nil, "Accept", "text/html")
				saw("a pass", text)
			}
		},
	}
	old := sftptalk.SSH(t, k, "ann")
	uses = append(uses, func(_ *attacker, x string, n int) {
		for command, sent := range map[string]string{"scp -r -f " + x: strings.Repeat("\x00", 40), "scp -f " + x + "/f*": strings.Repeat("\x00", 10),
			"scp -t " + x + "/f": "C0644 7 f\nplanted\x00", "scp -r -t " + x: fmt.Sprintf("D0755 0 scp%d\nC0644 7 f\nplanted\x00E\n", n%3)} {
			session, err := old.NewSession()
			if err != nil {
				continue
			}
			session.Stdin = strings.NewReader(sent)
			text, _ := session.Output(command)
			saw("scp", string(text))
			session.Close()
		}
	})
	var all sync.WaitGroup
	end := time.Now().Add(*raceFor)
	ftp := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	for number, use := range uses {
		x, real := fmt.Sprintf("/x%d", min(number, 3)), fmt.Sprintf("/real%d", min(number, 3))
		require.NoError(t, os.MkdirAll(filepath.Join(home, real, "in"), 0o750))
		require.NoError(t, os.WriteFile(filepath.Join(home, real, "f"), []byte("open"), 0o640))
		swapper, user := sftptalk.Dial(t, k, "ann"), attack(t, k)
		all.Go(func() {
			for time.Now().Before(end) {
				rename(swapper, real, x)
				rename(swapper, x, real)
				swapper.Status(sftptalk.FxpSymlink, sftptalk.Str("secret"), sftptalk.Str(x))
				swapper.Status(sftptalk.FxpRemove, sftptalk.Str(x))
				swapper.Status(sftptalk.FxpMkdir, sftptalk.Str(real), sftptalk.NoAttrs())
			}
		})
		all.Go(func() {
			for n := 0; time.Now().Before(end); n++ {
				use(user, x, n)
				tries.Add(1)
			}
		})
	}
	all.Go(func() {
		for time.Now().Before(end) {
			for _, command := range []string{"SIZE /x0/f", "DELE /x0/only-here", "RNFR /x1/in", "RNTO /x2/in", "MKD /x2/made", "RMD /x0/in", "MLST /x1/only-here"} {
				_, lines := ftp.Command(command)
				saw("FTP", strings.ReplaceAll(strings.Join(lines, "\n"), command[5:], ""))
			}
			tries.Add(1)
		}
	})
	all.Wait()
	t.Log(tries.Load(), "rounds")
	var left, strays []string
	require.NoError(t, filepath.WalkDir(home, func(at string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(home, at)
		switch {
		case strings.HasPrefix(e.Name(), ".urbankeep-"):
			strays = append(strays, rel)
		case strings.HasPrefix(rel, "secret/"):
			left = append(left, rel)
			if e.Type().IsRegular() {
				assert.Equal(t, hidden, string(testkit.OnDisk(t, at)), rel)
			}
		case e.Type().IsRegular() && strings.Contains(string(testkit.OnDisk(t, at)), hidden):
			assert.Contains(t, []string{"f", "g"}, e.Name(), "%s came out", rel)
		}
		return nil
	}))
	assert.Equal(t, []string{"secret/f", "secret/in", "secret/in/f", "secret/only-here"}, left)
	assert.Empty(t, strays)
	assert.Equal(t, hidden, string(testkit.OnDisk(t, filepath.Join(home, "safe/deep/g"))))
	deeds, err := k.DB.Deeds(t.Context())
	require.NoError(t, err)
	assert.Empty(t, deeds)
}
