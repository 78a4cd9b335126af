package notices_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/watch/notice"
	"urbankeep/tests/testkit"
)

// scanner is a receiver that is asked about uploads. It finds evil in what holds the word.
type scanner struct {
	*httptest.Server
	t      *testing.T
	mu     sync.Mutex
	secret string
	gate   chan bool // nil: it answers at once; else it waits for it
	mute   bool      // it gives no answer that counts
	seen   []string  // subjects that it was asked about
}

func scan(t *testing.T, k *testkit.Keep) *scanner {
	s := &scanner{t: t}
	s.Server = httptest.NewServer(s)
	t.Cleanup(func() { s.CloseClientConnections(); s.Close() })
	var r made
	k.Must(&r, "receiver", "add", "scanner", s.URL, "-private")
	s.secret = r.Secret
	return s
}

func (s *scanner) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	s.mu.Lock()
	s.seen = append(s.seen, r.Header.Get("Ce-Subject"))
	gate, mute := s.gate, s.mute
	assert.True(s.t, signed(r.Header, body, s.secret))
	s.mu.Unlock()
	if gate != nil {
		select {
		case <-gate:
		case <-r.Context().Done():
			return
		}
	}
	if mute {
		w.WriteHeader(http.StatusOK)
		io.WriteString(w, "welcome")
		return
	}
	answer := map[string]string{"answer": "yes"}
	if strings.Contains(string(body), "evil") {
		answer = map[string]string{"answer": "no", "reason": "it is evil"}
	}
	json.NewEncoder(w).Encode(answer)
}

func (s *scanner) asked() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.seen)
}

func (s *scanner) hold() chan bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gate = make(chan bool)
	return s.gate
}

// wait waits until something is so.
func wait(t *testing.T, what string, so func() bool) {
	t.Helper()
	require.Eventually(t, so, testkit.Patience, 10*time.Millisecond, what)
}

// partner makes an account whose uploads are checked, and one that sees the same folder without a check.
func partner(k *testkit.Keep, options string) (key string) {
	k.Account("partner", "-mount", "/in=files:in,check=scanner"+options, "-mount", "/side=files:side", "-grant", "/=full")
	k.Account("office", "-home", "files:in")
	return k.Key("partner")
}

func put(t *testing.T, k *testkit.Keep, account, name, text string, args ...string) (string, error) {
	file := filepath.Join(t.TempDir(), "f")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return k.Curl(account, "ftp", name, append([]string{"-T", file}, args...)...)
}

func sees(k *testkit.Keep, account, folder string) string {
	out, err := k.Curl(account, "ftp", folder, "--list-only")
	if err != nil {
		return "error: " + out
	}
	names := strings.FieldsFunc(out, func(r rune) bool { return r == '\n' || r == '\r' })
	slices.Sort(names)
	return strings.Join(names, " ")
}

func TestNobodyElseSeesAnUploadUntilItsCheckSaysYes(t *testing.T) {
	k, e := start(t)
	s := scan(t, k)
	key := partner(k, "")
	k.Must(nil, "notice", "add", "arrived", "-events", "upload,check-refused", "-receivers", "tide-office")
	_, err := put(t, k, "office", "/plan.txt", "the old plan")
	require.NoError(t, err)
	e.waitFor(1, nil)
	gate := s.hold()
	out, err := put(t, k, "partner", "/in/plan.txt", "the new plan")
	require.NoError(t, err, out)
	out, err = put(t, k, "partner", "/in/new.txt", "another plan")
	require.NoError(t, err, out)
	wait(t, "asked", func() bool { return s.asked() == 2 })

	assert.Equal(t, "new.txt plan.txt", sees(k, "partner", "/in/"))
	assert.Equal(t, "plan.txt", sees(k, "office", "/"))
	text, err := k.Curl("office", "ftp", "/plan.txt")
	assert.NoError(t, err)
	assert.Equal(t, "the old plan", text)
	text, err = k.Curl("partner", "ftp", "/in/plan.txt")
	assert.NoError(t, err)
	assert.Equal(t, "the new plan", text)
	for _, try := range [][]string{{"/new.txt", "-o", os.DevNull}, {"/", "-Q", "DELE new.txt"}, {"/", "-Q", "RNFR new.txt"}, {"/", "-Q", "SIZE new.txt"}, {"/", "-Q", "SIZE .urbankeep-held-x"}} {
		_, err = k.Curl("office", "ftp", try[0], try[1:]...)
		assert.Error(t, err, "%v", try)
	}
	// No way around it: another name, a second name, a link, the folder's name, what is added to a file that is let in.
	for _, lines := range [][]string{{"ln /in/new.txt /in/hard.txt"}, {"rename /in/new.txt /out.txt"}} {
		out, err := k.SFTP("partner", key, lines...)
		assert.Error(t, err, "%v: %s", lines, out)
	}
	out, err = k.SFTP("partner", key, "put "+key+".pub /side/k", "rename /side/k /in/unchecked")
	assert.Error(t, err, out)
	out, err = k.SFTP("partner", key, "mkdir /in/deep", "put "+key+".pub /in/deep/k", "rename /in/deep /in/other")
	assert.Error(t, err, out)
	_, err = put(t, k, "partner", "/in/plan.txt", " and more", "--append") // of its own, which is held: fine, and asked anew
	require.NoError(t, err)
	out, err = k.SFTP("partner", key, "rename /in/new.txt /in/deep/renamed.txt")
	require.NoError(t, err, out)
	close(gate)
	wait(t, "let in", func() bool {
		return sees(k, "office", "/") == "deep plan.txt" && sees(k, "office", "/deep/") == "k renamed.txt"
	})
	wait(t, "the whole plan", func() bool { text, _ := k.Curl("office", "ftp", "/plan.txt"); return text == "the new plan and more" })
	_, err = put(t, k, "partner", "/in/plan.txt", "evil", "--append")
	assert.Error(t, err, "it would not be checked")
	var heldNow []api.Held
	k.Must(&heldNow, "held", "list")
	assert.Empty(t, heldNow)
	got := e.waitFor(5, nil)
	assert.ElementsMatch(t, []string{"/plan.txt", "/side/k", "/in/deep/k", "/in/deep/renamed.txt", "/in/plan.txt"}, distinct(got))
	var q []api.Quota
	k.Must(&q, "quota", "list")
	left, err := filepath.Glob(filepath.Join(k.Home("in"), ".urbankeep*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestWhatACheckRefusesGoesAway(t *testing.T) {
	k, e := start(t)
	scan(t, k)
	partner(k, "")
	k.Account("careful", "-mount", "/in=files:care,check=scanner,refused=quarantine", "-grant", "/=full")
	k.Must(nil, "notice", "add", "refused", "-events", "check-refused", "-receivers", "tide-office")
	_, err := put(t, k, "office", "/a", "good and old")
	require.NoError(t, err)
	_, err = put(t, k, "partner", "/in/a", "evil")
	require.NoError(t, err)
	first := e.waitFor(1, nil)[0].Data
	assert.Contains(t, first.Detail, "it is evil; it was deleted")
	assert.Equal(t, "partner", first.Account)
	text, err := k.Curl("partner", "ftp", "/in/a")
	require.NoError(t, err)
	assert.Equal(t, "good and old", text, "what was there stays")
	for range 2 {
		before := len(e.got())
		_, err = put(t, k, "careful", "/in/b", "evil twice")
		require.NoError(t, err)
		e.waitFor(before+1, nil)
	}
	assert.Equal(t, "quarantine", sees(k, "careful", "/in/"))
	assert.Equal(t, "b b (2)", sees(k, "careful", "/in/quarantine/"))
	assert.Contains(t, k.Must(nil, "audit", "-json", "-action", "check", "-outcome", "refused"), "it is evil")
}

func TestACheckThatGivesNoAnswerFallsAsItIsSaid(t *testing.T) {
	k, _ := start(t)
	s := scan(t, k)
	s.mute = true
	partner(k, ",check-time=2s")
	k.Account("lenient", "-mount", "/in=files:len,check=scanner,check-time=2s,unanswered=yes", "-grant", "/=full")
	k.Account("plain", "-home", "files:len")
	for _, account := range []string{"partner", "lenient"} {
		_, err := put(t, k, account, "/in/a", "who knows")
		require.NoError(t, err)
	}
	wait(t, "let in", func() bool { return sees(k, "plain", "/") == "a" })
	wait(t, "deleted", func() bool { return sees(k, "partner", "/in/") == "" })
	assert.Empty(t, sees(k, "office", "/"))
	assert.Contains(t, k.Must(nil, "audit", "-json", "-action", "check", "-account", "partner"), "no answer from scanner within 2s")
	assert.Contains(t, k.Refused("receiver", "remove", "scanner"), "account lenient, account partner")
	assert.Contains(t, k.Refused("account", "set", "plain", "-mount", "/x=files:len,check=nobody"), "no receiver")
}

func TestAnOldAnswerIsNotAboutANewFile(t *testing.T) {
	k, _ := start(t)
	s := scan(t, k)
	partner(k, "")
	gate := s.hold()
	_, err := put(t, k, "partner", "/in/a", "good")
	require.NoError(t, err)
	wait(t, "asked", func() bool { return s.asked() == 1 })
	_, err = put(t, k, "partner", "/in/a", "evil")
	require.NoError(t, err)
	gate <- true // yes, to the good one
	close(gate)
	wait(t, "asked again", func() bool { return s.asked() >= 2 })
	wait(t, "gone", func() bool { return sees(k, "partner", "/in/") == "" })
	assert.Empty(t, sees(k, "office", "/"), "evil was let in")
	assert.Contains(t, k.Must(nil, "audit", "-json", "-action", "check"), "it is evil")
}

func TestHeldUploadsOutliveTheServiceAndAnOperatorMayDecide(t *testing.T) {
	k, _ := start(t)
	s := scan(t, k)
	s.mute = true
	partner(k, "")
	for i := range 3 {
		_, err := put(t, k, "partner", fmt.Sprintf("/in/%d", i), "x")
		require.NoError(t, err)
	}
	k.Halt(5 * time.Second)
	k = testkit.StartOn(t, k.Dir, "127.0.0.1", quick)
	assert.Equal(t, "0 1 2", sees(k, "partner", "/in/"))
	assert.Empty(t, sees(k, "office", "/"))
	var held []api.Held
	k.Must(&held, "held", "list")
	require.Len(t, held, 3)
	for i, h := range held {
		k.Must(nil, "held", map[bool]string{true: "accept", false: "refuse"}[h.Path == "/in/1"], held[i].ID, "-reason", "seen by hand")
	}
	assert.Equal(t, "1", sees(k, "office", "/"))
	assert.Contains(t, k.Must(nil, "audit", "-json", "-action", "check"), "says the operator local: seen by hand")

	// What comes by other ways, and by a pass, is held as well; and who comes by a pass is somebody else.
	s.mu.Lock()
	s.mute = false
	s.mu.Unlock()
	gate := s.hold()
	base := "http://" + k.ConsoleAddress() + "/dav/in/"
	out, err := testkit.Run(t, "evil", "curl", "-sS", "-f", "-u", "partner:"+testkit.Password, "-T", "-", base+"by-dav")
	require.NoError(t, err, out)
	k.Must(nil, "account", "set", "partner", "-passes", "both")
	var pass api.PassMade
	k.Must(&pass, "pass", "add", "partner", "/in", "-drop")
	out, err = testkit.Run(t, "good", "curl", "-sS", "-f", "-T", "-", "http://"+k.ConsoleAddress()+pass.Link[strings.Index(pass.Link, "/pass/"):]+"by-pass")
	require.NoError(t, err, out)
	assert.Equal(t, "1 by-dav", sees(k, "partner", "/in/"))
	assert.Equal(t, "1", sees(k, "office", "/"))
	close(gate)
	wait(t, "decided", func() bool { return sees(k, "office", "/") == "1 by-pass" && sees(k, "partner", "/in/") == "1 by-pass" })
}

// Each upload is asked about, however many came before; what is renamed meanwhile has at its new place what holds there.
func TestEveryUploadIsChecked(t *testing.T) {
	k, e := start(t)
	s := scan(t, k)
	k.Account("partner", "-mount", "/in=files:in,check=scanner", "-grant", "/=full", "-grant", "/in/kept=list,upload,rename,mkdir")
	k.Account("office", "-home", "files:in")
	k.Must(nil, "notice", "add", "arrived", "-events", "upload", "-receivers", "tide-office")
	for n := range 12 {
		out, err := put(t, k, "partner", fmt.Sprintf("/in/%02d", n), "good")
		require.NoError(t, err, out)
	}
	wait(t, "all were decided", func() bool { return len(strings.Fields(sees(k, "office", "/"))) == 12 })

	_, err := put(t, k, "office", "/kept/theirs", "theirs", "--ftp-create-dirs")
	require.NoError(t, err)
	gate := s.hold()
	_, err = put(t, k, "partner", "/in/mine", "mine")
	require.NoError(t, err)
	_, err = k.SFTP("office", k.Key("office"), "rename /kept/theirs /kept/away")
	require.NoError(t, err)
	_, err = k.SFTP("partner", k.Key("partner"), "rename /in/mine /in/kept/theirs")
	require.NoError(t, err, "the name is free")
	_, err = k.SFTP("office", k.Key("office"), "rename /kept/away /kept/theirs")
	require.NoError(t, err)
	close(gate)
	wait(t, "it was decided", func() bool { return strings.Contains(sees(k, "office", "/kept/"), "(2)") })
	text, err := k.Curl("office", "ftp", "/kept/theirs")
	require.NoError(t, err)
	assert.Equal(t, "theirs", text)

	// A file that is made and filled over WebDAV is one upload: one check, one notice.
	asked, told := s.asked(), len(e.got())
	base := "http://" + k.Address("web") + "/dav/in/filled"
	for _, text := range []string{"", "the content"} {
		out, err := testkit.Run(t, text, "curl", "-sS", "-f", "-u", "partner:"+testkit.Password, "-X", "PUT", "-H", "Content-Type:", "--data-binary", "@-", base)
		require.NoError(t, err, out)
	}
	wait(t, "it was let in", func() bool { return strings.Contains(sees(k, "office", "/"), "filled") })
	text, err = k.Curl("office", "ftp", "/filled")
	require.NoError(t, err)
	assert.Equal(t, "the content", text)
	e.waitFor(1, func(e *notice.Event) bool { return strings.HasSuffix(e.Data.Path, "filled") })
	assert.Equal(t, asked+1, s.asked())
	assert.LessOrEqual(t, len(e.got())-told, 2, "of the one before, and of this")
}

// A rehearsal is neither told nor counted: nobody hears of files that nobody else sees.
func TestARehearsalIsNotTold(t *testing.T) {
	k, e := start(t)
	k.Must(nil, "notice", "add", "all", "-events", "upload,download,delete,rename,mkdir,cut-off", "-receivers", "tide-office")
	upload(t, k, "gauge-quay", "/first.csv")
	e.waitFor(1, nil)
	var before, after api.Traffic
	k.Must(&before, "traffic")
	k.Must(nil, "rehearse", "gauge-quay")
	upload(t, k, "gauge-quay", "/last.csv")
	e.waitFor(1, func(e *notice.Event) bool { return e.Data.Path == "/last.csv" })
	assert.Equal(t, 2, e.different())
	var run api.NoticeDryRun
	k.Must(&run, "notice", "dry-run", "all", "-since", "-1d")
	assert.Len(t, run.Records, 2)
	k.Must(&after, "traffic")
	assert.Equal(t, []int64{2 * before.Total.Up, 2 * before.Total.Operations}, []int64{after.Total.Up, after.Total.Operations})
	assert.Contains(t, k.Must(nil, "audit", "-action", "upload", "-json"), "rehearsal", "the trail has it all the same")
}
