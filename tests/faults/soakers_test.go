//go:build linux

package faults_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// answer is what a client was told.
type answer int

const (
	unknown answer = iota // nothing, or nothing that is certain
	yes
	no
)

// A client whose service hangs must come to an end, and one connection a deed leaves none behind.
var overHTTP = &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}

// ask sends one request, and gives the status (0: no answer, or one that broke off), the body and the headers.
func ask(p *testkit.Process, account, method, at string, body []byte, headers ...string) (int, []byte, http.Header) {
	request, err := http.NewRequest(method, "http://"+p.Console+(&url.URL{Path: at}).EscapedPath(), bytes.NewReader(body))
	if err != nil {
		return 0, nil, nil
	}
	if account != "" {
		request.SetBasicAuth(account, testkit.Password)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response, err := overHTTP.Do(request)
	if err != nil {
		return 0, nil, nil
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		return 0, text, nil
	}
	return response.StatusCode, text, response.Header
}

func dav(p *testkit.Process, account, method, name string, body []byte, headers ...string) answer {
	status, _, _ := ask(p, account, method, "/dav/"+name, body, headers...)
	switch {
	case status >= 200 && status < 300 && status != http.StatusMultiStatus:
		return yes
	case status >= 400 && status < 500, status == http.StatusInsufficientStorage:
		return no
	}
	return unknown
}

func ran(run *exec.Cmd) answer {
	if run.Run() == nil {
		return yes
	}
	return unknown
}

// The deeds over the faces.

func (c *note) put(p *testkit.Process, name string, content []byte) answer {
	if c.face == "dav" {
		dav(p, "crew-harbour", "MKCOL", c.dir, nil)
		return dav(p, "crew-harbour", "PUT", name, content)
	}
	if c.face == "portal" {
		return c.browser.put(p, c.dir, name, content, 1+c.n%3)
	}
	local, err := os.CreateTemp("", "soak")
	if err != nil {
		return no
	}
	defer os.Remove(local.Name())
	local.Write(content)
	local.Close()
	if c.face == "ftps" {
		return ran(p.Curl("--ftp-create-dirs", "-T", local.Name(), "ftps://"+p.FTPS+"/"+name))
	}
	return ran(p.SFTPBatch("-mkdir "+c.dir, "put "+local.Name()+" "+name))
}

func (c *note) remove(p *testkit.Process, name string) answer {
	if c.face == "dav" {
		return dav(p, "crew-harbour", "DELETE", name, nil)
	}
	if c.face == "portal" {
		return c.browser.post(p, "removals", api.PortalRemoval{Path: "/" + name})
	}
	return ran(p.SFTPBatch("rm " + name))
}

func (c *note) rename(p *testkit.Process, name, to string) answer {
	if c.face == "dav" {
		return dav(p, "crew-harbour", "MOVE", name, nil, "Destination", "http://"+p.Console+"/dav/"+to, "Overwrite", "F")
	}
	if c.face == "portal" {
		return c.browser.post(p, "renames", api.PortalRename{Path: "/" + name, To: "/" + to})
	}
	return ran(p.SFTPBatch("rename " + name + " " + to))
}

func (c *note) fetch(p *testkit.Process, name string) ([]byte, answer) {
	if c.face == "dav" {
		status, text, _ := ask(p, "crew-harbour", "GET", "/dav/"+name, nil)
		if status == http.StatusOK {
			return text, yes
		}
		return nil, unknown
	}
	if c.face == "portal" {
		told, text, _ := c.browser.ask(p, "GET", "/portal/files/"+name, nil)
		return text, told
	}
	out, err := p.Curl("ftps://" + p.FTPS + "/" + name).Output()
	if err != nil {
		return nil, unknown
	}
	return out, yes
}

// note counts what was done to a path, and gives the answer on.
func (c *note) note(action, name, to string, told answer) answer {
	act := action + " /" + name
	if to != "" {
		act += " /" + to
	}
	n := c.acts[act]
	if n == nil {
		n = &tally{}
		c.acts[act] = n
	}
	switch told {
	case yes:
		n.done++
	case unknown:
		n.maybe++
	}
	return told
}

// across is where a client moves files to from its folder: the same one in the other store.
func (c *note) across() string {
	if below, far := strings.CutPrefix(c.dir, "far/"); far {
		return below
	}
	return "far/" + c.dir
}

// names are those of the files in the client's folders.
func (c *note) names(at func(string) string) (names []string) {
	for _, dir := range []string{c.dir, c.across()} {
		entries, _ := os.ReadDir(at(dir))
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".urbankeep-part-") { // an upload that can go on
				continue
			}
			names = append(names, dir+"/"+e.Name())
		}
	}
	return names
}

// apart is somebody who tries one thing only, and looks at it.
type apart struct {
	step func(p *testkit.Process)
	look func(fault string)
	all  int
}

// others are who come close to a quota, try what they may not, have uploads checked, hold locks, and use passes.
func (s *soak) others(seed uint64) {
	t := s.t
	scanner := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		json.NewEncoder(w).Encode(map[string]string{"answer": map[bool]string{true: "no", false: "yes"}[bytes.Contains(body, []byte("evil"))]})
	}))
	t.Cleanup(scanner.Close)
	s.p.CLI(nil, "", "receiver", "add", "scanner", scanner.URL, "-private")
	s.p.CLI(nil, "", "account", "set", "crew-harbour", "-mount", "/checked=far:checked,check=scanner", "-mount", "/shared=far:shared")
	for _, account := range [][]string{{"tight", "-home", "files:tight", "-quota-bytes", fmt.Sprint(tightRoom)},
		{"visitor", "-home", "files:visitor", "-rights", "list,download", "-mount", "/crew=files:crew-harbour,ro", "-grant", "/crew=full", "-mount", "/drop=far:drop", "-grant", "/drop=drop-only"},
		{"partner", "-home", "far:shared"}} {
		s.p.CLI(nil, testkit.Password+"\n", append([]string{"account", "add", account[0], "-password"}, account[1:]...)...)
	}
	random := func(n uint64) *rand.Rand { return rand.New(rand.NewPCG(seed, 100+n)) }
	s.apart = []*apart{s.tight(random(0)), s.visitor(random(1)), s.checked(random(2)), s.locker(random(3)), s.fetcher(random(4))}
}

const tightRoom = 300_000

// tight fills its quota to the byte, and tries one more.
func (s *soak) tight(r *rand.Rand) *apart {
	home := func() string { return filepath.Join(s.root, "data", "files", "tight") }
	held := map[string]int{} // sizes; nil: it has to be looked
	n := 0
	look := func(fault string) {
		held = map[string]int{}
		sum := 0
		filepath.WalkDir(home(), func(name string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				info, err := e.Info()
				require.NoError(s.t, err)
				held[e.Name()] = int(info.Size())
				sum += held[e.Name()]
			}
			return nil
		})
		assert.LessOrEqual(s.t, sum, tightRoom, "%s: the quota holds", fault)
	}
	return &apart{look: look, step: func(p *testkit.Process) {
		if held == nil {
			time.Sleep(50 * time.Millisecond)
			return // until the next look
		}
		sum := 0
		for _, size := range held {
			sum += size
		}
		n++
		name, free := fmt.Sprintf("t%d", n), tightRoom-sum
		size := []int{free, free + 1, r.IntN(free + 1)}[r.IntN(3)]
		if len(held) > 3 && r.IntN(2) == 0 {
			for name := range held {
				if dav(p, "tight", "DELETE", name, nil) == yes {
					delete(held, name)
				} else {
					held = nil
				}
				return
			}
		}
		switch told := dav(p, "tight", "PUT", name, make([]byte, size)); {
		case told == yes && size <= free:
			held[name] = size
		case told == yes:
			s.t.Errorf("%d bytes were let in where %d are free", size, free)
			held = nil
		case told == unknown:
			held = nil
		}
	}}
}

// visitor tries what it may not.
func (s *soak) visitor(r *rand.Rand) *apart {
	dropped := map[string]string{}
	return &apart{
		step: func(p *testkit.Process) {
			name := fmt.Sprintf("crew/c%d/f%d", 2*r.IntN(3), r.IntN(12))
			drop := fmt.Sprintf("drop/d%d", r.IntN(1_000_000))
			content := fmt.Appendf(nil, "dropped %d", r.Uint64())
			for what, told := range map[string]answer{
				"DELETE " + name: dav(p, "visitor", "DELETE", name, nil),
				"PUT " + name:    dav(p, "visitor", "PUT", name, []byte("by the visitor")),
				"MOVE " + name:   dav(p, "visitor", "MOVE", name, nil, "Destination", "http://"+p.Console+"/dav/drop/taken", "Overwrite", "T"),
				"PUT own":        dav(p, "visitor", "PUT", "own", []byte("x")),
				"MKCOL own":      dav(p, "visitor", "MKCOL", "folder", nil),
			} {
				if told == yes {
					s.t.Errorf("the visitor may not %s, and did", what)
				}
			}
			if dav(p, "visitor", "PUT", drop, content) == yes {
				dropped[drop] = string(content)
				if dav(p, "visitor", "GET", drop, nil) == yes {
					s.t.Error("who may only drop files has fetched one")
				}
			}
		},
		look: func(fault string) {
			var told []api.AuditRecord
			s.p.CLI(&told, "", "audit", "-account", "visitor", "-action", "upload,delete,rename,mkdir,rmdir", "-outcome", "done", "-most", "1000000")
			for _, r := range told {
				assert.True(s.t, strings.HasPrefix(r.Path, "/drop/"), "%s: the visitor may not %s %s, and the trail says that it is done", fault, r.Action, r.Path)
			}
			for name, want := range dropped {
				text, err := os.ReadFile(filepath.Join(s.there, name))
				assert.NoError(s.t, err, "%s: %s was acknowledged", fault, name)
				assert.Equal(s.t, want, string(text), "%s: %s", fault, name)
			}
		}}
}

// checked uploads good and bad files where they are checked.
func (s *soak) checked(r *rand.Rand) *apart {
	sent := map[string]string{}
	n := 0
	return &apart{
		step: func(p *testkit.Process) {
			n++
			name := fmt.Sprintf("checked/k%d", n)
			content := fmt.Sprintf("%s %d", []string{"good", "evil"}[r.IntN(2)], r.Uint64())
			if dav(p, "crew-harbour", "PUT", name, []byte(content)) == yes {
				sent[name] = content
			}
			time.Sleep(20 * time.Millisecond)
		},
		look: func(fault string) {
			// Whoever looks first at what waits, and then at what is there, finds each file at least once.
			var waiting []api.Held
			s.p.CLI(&waiting, "", "held", "list")
			waits := map[string]bool{}
			for _, h := range waiting {
				waits[strings.TrimPrefix(h.Path, "/")] = true
			}
			for name, content := range sent {
				text, err := os.ReadFile(filepath.Join(s.there, "checked", path.Base(name)))
				switch {
				case strings.HasPrefix(content, "evil"):
					assert.ErrorIs(s.t, err, fs.ErrNotExist, "%s: %s was refused by its check, or waits for it", fault, name)
				case !waits[name]:
					assert.Equal(s.t, content, string(text), "%s: %s was let in (%v)", fault, name, err)
				}
			}
		}}
}

const lockBody = `<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`

// locker locks a file, and has somebody else try to change it.
func (s *soak) locker(*rand.Rand) *apart {
	n, token, sure := 0, "", false
	content := ""
	return &apart{
		step: func(p *testkit.Process) {
			n++
			if token == "" {
				content = fmt.Sprint("locked ", n)
				if dav(p, "crew-harbour", "PUT", "shared/l", []byte(content)) != yes {
					return
				}
				status, _, header := ask(p, "crew-harbour", "LOCK", "/dav/shared/l", []byte(lockBody), "Timeout", "Second-86400", "Depth", "0")
				if token = header.Get("Lock-Token"); status/100 == 2 && token != "" {
					sure = true
				}
				return
			}
			for method, told := range map[string]answer{"PUT": dav(p, "partner", "PUT", "l", []byte("by the partner")), "DELETE": dav(p, "partner", "DELETE", "l", nil)} {
				if told == yes && sure && !s.jumped.Load() {
					s.t.Errorf("%s went through a lock", method)
				}
			}
			if n%7 == 0 {
				if dav(p, "crew-harbour", "UNLOCK", "shared/l", nil, "Lock-Token", token) == yes {
					token = ""
				}
				sure = false // the next look takes what is there
			}
		},
		look: func(fault string) {
			if token != "" && sure && !s.jumped.Load() {
				text, err := os.ReadFile(filepath.Join(s.there, "..", filepath.Base(s.there), "shared", "l"))
				assert.NoError(s.t, err, "%s: the locked file is there", fault)
				assert.Equal(s.t, content, string(text), "%s: the locked file", fault)
				return
			}
			s.p.CLI(nil, "", "account", "set", "partner", "-note", fault) // which ends no lock
			token, sure = "", false
			var locks []struct{ ID string }
			s.p.CLI(&locks, "", "lock", "list")
			for _, l := range locks {
				s.p.CLI(nil, "", "lock", "break", l.ID)
			}
		}}
}

const passBytes, passFile = 50_000, 20_000

// fetcher fetches with a link that may move so many bytes.
func (s *soak) fetcher(r *rand.Rand) *apart {
	content := bytes.Repeat([]byte("0123456789"), passFile/10)
	link, moved := "", 0
	add := func() {
		require.NoError(s.t, os.MkdirAll(filepath.Join(s.there, "shared"), 0o755))
		require.NoError(s.t, os.WriteFile(filepath.Join(s.there, "shared", "plan"), content, 0o644))
		var made api.PassMade
		s.p.CLI(&made, "", "pass", "add", "partner", "/plan", "-bytes", fmt.Sprint(passBytes))
		to, err := url.Parse(made.Link)
		require.NoError(s.t, err)
		link, moved = to.Path, 0
	}
	add()
	return &apart{
		step: func(p *testkit.Process) {
			status, text, _ := ask(p, "", "GET", link+"0/plan", nil)
			moved += len(text) * map[bool]int{true: 1}[status == 200 || status == 0]
			if status == 200 && !bytes.Equal(text, content) {
				s.t.Error("the link gave something else")
			}
			if moved > passBytes {
				s.t.Errorf("a link of %d bytes moved %d", passBytes, moved)
			}
			time.Sleep(time.Duration(r.IntN(200)) * time.Millisecond)
		},
		look: func(string) {
			if moved+passFile > passBytes {
				add()
			}
		}}
}
