package evidence_test

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
)

// rsyslogd runs the real collector on a port, writing to a file, until it is killed.
func rsyslogd(t *testing.T, dir string, port int) *exec.Cmd {
	conf := filepath.Join(dir, "conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, `global(workDirectory=%[1]q maxMessageSize="64k")
module(load="imtcp")
input(type="imtcp" address="127.0.0.1" port="%[2]d")
template(name="line" type="string" string="%%structured-data%% |%%msg%%\n")
action(type="omfile" file="%[1]s/out" template="line")
`, dir, port), 0o600))
	c := exec.Command("rsyslogd", "-n", "-f", conf, "-i", filepath.Join(dir, "pid"))
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		c.Process.Kill()
		c.Wait()
	})
	return c
}

var sentSeq = regexp.MustCompile(`(?m)^\[record@32473 seq="(\d+)" .* \|.+$`)

// collected gives how often each record came to the collector.
func collected(t *testing.T, dir string) map[int64]int {
	text, err := os.ReadFile(filepath.Join(dir, "out"))
	if os.IsNotExist(err) {
		return nil
	}
	require.NoError(t, err)
	times := map[int64]int{}
	for _, found := range sentSeq.FindAllStringSubmatch(string(text), -1) {
		seq, err := strconv.ParseInt(found[1], 10, 64)
		require.NoError(t, err)
		times[seq]++
	}
	return times
}

// The collector is down while people work: the service goes on unharmed, and when it
// is back it has every record.
func TestARealCollectorThatWasDownGetsEveryRecord(t *testing.T) {
	k := testkit.StartOn(t, testkit.Folder(t), "127.0.0.1", func(o *service.Options) { o.Settled = 300 * time.Millisecond })
	k.Account("ann")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	dir := t.TempDir()
	real := rsyslogd(t, dir, port)
	file, _ := testkit.File(t, 1000)
	upload := func() {
		out, err := k.Curl("ann", "ftps", "/Flut%20%C3%BC.csv", "-T", file)
		require.NoError(t, err, out)
	}
	state := func() (now api.CollectorState) { k.Must(&now, "collector", "show"); return now }

	k.Must(nil, "collector", "set", "tcp://127.0.0.1:"+strconv.Itoa(port))
	upload()
	require.Eventually(t, func() bool { return state().Waiting == 0 && len(collected(t, dir)) > 0 }, testkit.Patience, 50*time.Millisecond)
	require.NoError(t, real.Process.Kill())
	real.Wait()
	for range 10 {
		upload()
	}
	require.Eventually(t, func() bool { return state().Trouble != "" }, testkit.Patience, 50*time.Millisecond)
	assert.Contains(t, k.Must(nil, "collector", "show"), "waiting: ")
	assert.Contains(t, scrape(t, k, ""), "urbankeep_collector_connected 0")
	rsyslogd(t, dir, port)
	var last api.AuditRecord
	var newest []api.AuditRecord
	k.Must(&newest, "audit", "-most", "1")
	last = newest[0]
	require.Eventually(t, func() bool { return state().Sent >= last.Seq && collected(t, dir)[last.Seq] > 0 }, testkit.Patience, 50*time.Millisecond)
	times := collected(t, dir)
	first := last.Seq
	for seq := range times {
		first = min(first, seq)
	}
	for seq := first; seq <= last.Seq; seq++ {
		assert.NotZero(t, times[seq], "record %d", seq)
	}
	text := string(testkit.OnDisk(t, filepath.Join(dir, "out")))
	assert.Contains(t, text, `path="/Flut ü.csv"`)
	assert.NotContains(t, text, testkit.Password)
	k.Must(nil, "collector", "remove")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "collector-set")
	require.Len(t, trail, 2)
	assert.Contains(t, string(trail[1].Before)+string(trail[1].After), "tcp://127.0.0.1")
}

// scrape reads the metrics over the console's address, with a token; with none over
// the control socket's.
func scrape(t *testing.T, k *testkit.Keep, token string) string {
	client, base := http.DefaultClient, "http://"+k.ConsoleAddress()
	if token == "" {
		socket := filepath.Join(k.Dir, "control.sock")
		client = &http.Client{Transport: &http.Transport{Dial: func(string, string) (net.Conn, error) { return net.Dial("unix", socket) }, DisableKeepAlives: true}}
		base = "http://control"
	}
	request, err := http.NewRequest("GET", base+"/metrics", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := client.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return fmt.Sprint(response.StatusCode, "\n", string(text))
}

func TestMetricsCountWhatHappensUnderFixedLabels(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	k.Account("ann")
	file, _ := testkit.File(t, 4000)
	out, err := k.Curl("ann", "ftps", "/f", "-T", file)
	require.NoError(t, err, out)
	out, err = k.Curl("ann", "ftps", "/", "-Q", "DELE missing")
	require.Error(t, err, out)
	for n := range 20 {
		response, err := http.Get(fmt.Sprintf("http://%s/made-up/%d", k.ConsoleAddress(), n))
		require.NoError(t, err)
		response.Body.Close()
	}
	text := ""
	for _, line := range []string{
		`urbankeep_operations_total{action="delete",outcome="failed",protocol="ftps"} 1`,
		`urbankeep_operations_total{action="upload",outcome="done",protocol="ftps"} 1`,
		`urbankeep_errors_total{protocol="ftps",reason="not-found"} 1`,
		`urbankeep_transferred_bytes_total{direction="in"} 4000`,
		`urbankeep_transfer_duration_seconds_count{action="upload",protocol="ftps"} 1`,
		`urbankeep_operator_actions_total{action="account-add",outcome="done"} 1`,
		`urbankeep_audit_queue_capacity_records 4096`,
		`urbankeep_passive_ports{listener="ftps"} 25`,
		`urbankeep_store_free_bytes{store="files"} `, `urbankeep_store_up{kind="disk",store="files"} 1`,
		`go_goroutines `,
	} {
		require.Eventually(t, func() bool {
			text = scrape(t, k, "")
			return strings.Contains(text, "\n"+line)
		}, testkit.Patience, 20*time.Millisecond, "waited for %s", line)
	}
	assert.NotContains(t, text, "ann")
	assert.NotContains(t, text, "made-up")
	assert.True(t, strings.HasPrefix(scrape(t, k, "none"), "401"), "only for who has a token")
}

func TestTheRetentionTakesOutAndTheRestIsProven(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	assert.Contains(t, k.Must(nil, "retention", "show"), "for ever")
	_, stderr, status := k.CLI("retention", "set", "-kind", "list")
	assert.Equal(t, 2, status)
	assert.Contains(t, stderr, "ACTION,ACTION=DAYS")
	text := k.Must(nil, "retention", "set", "-days", "400", "-kind", "list,sign-out=30", "-kind", "account-add=ever")
	assert.Contains(t, text, "list, sign-out   30 days")
	assert.Contains(t, text, "everything else  400 days")
	// What no flag names stays, and clearing is said with a word.
	_, _, status = k.CLI("retention", "set")
	assert.Equal(t, 2, status)
	for _, args := range [][]string{{"-days", "0"}, {"-kind", "nosuch=3"}, {"-kind", "sign-in=0"}} {
		_, stderr, status = k.CLI(append([]string{"retention", "set"}, args...)...)
		assert.NotZero(t, status, "%v: %s", args, stderr)
	}
	text = k.Must(nil, "retention", "set", "-kind", "sign-out=60", "-kind", "account-add=usual")
	assert.Contains(t, text, "list             30 days")
	assert.Contains(t, text, "sign-out         60 days")
	assert.NotContains(t, text, "account-add")
	assert.Contains(t, text, "everything else  400 days")
	k.Must(nil, "retention", "set", "-days", "ever", "-kind", "list,sign-out=usual")
	assert.Contains(t, k.Must(nil, "archive", "now"), "No record was sealed")
	_, stderr, status = k.CLI("archive", "read", "none.gz")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "no such archive")
	assert.Contains(t, k.Must(nil, "audit", "verify"), "the chain holds")
	assert.Equal(t, "1\n", k.Must(nil, "audit", "-count", "-action", "account-add"))
	assert.Equal(t, "1\n", k.Must(nil, "audit", "-count", "-text", "ann", "-action", "account-add"))
}
