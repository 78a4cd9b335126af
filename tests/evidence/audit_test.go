package evidence_test

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/face/cli"
	"urbankeep/internal/face/command"
	"urbankeep/tests/testkit"
)

func TestTheTrailGoesOutAndOnWhereItWas(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	file, _ := testkit.File(t, 5000)
	for _, name := range []string{"a b.tif", "=cmd.tif"} {
		out, err := k.SFTP("ann", k.Key("ann"), fmt.Sprintf("put %s \"%s\"", file, name))
		require.NoError(t, err, out)
	}
	lines := strings.Split(strings.TrimSpace(k.Must(nil, "audit", "export", "-format", "xferlog")), "\n")
	require.Len(t, lines, 2)
	assert.Regexp(t, `^\w{3} \w{3} [ \d]\d \d\d:\d\d:\d\d \d{4} \d+ 127\.0\.0\.1 5000 /a_b\.tif b _ i r ann sftp 0 \* c$`, lines[0])
	whole := k.Must(nil, "audit", "export", "-format", "csv")
	assert.Contains(t, whole, ",/=cmd.tif,")
	var newest []api.AuditRecord
	k.Must(&newest, "audit", "-most", "1", "-action", "upload")
	rest := k.Must(nil, "audit", "export", "-format", "csv", "-after", fmt.Sprint(newest[0].Seq-1))
	assert.True(t, strings.HasSuffix(whole, rest) || strings.HasPrefix(rest, fmt.Sprint(newest[0].Seq)), "it goes on, without a second head: %s", rest)
	assert.NotContains(t, rest, "seq,time")

	var found []api.AuditRecord
	k.Must(&found, "audit", "-network", "127.0.0.0/8", "-has", "A B")
	require.Len(t, found, 1)
	assert.Equal(t, "/a b.tif", found[0].Path)
	k.Must(&found, "audit", "-text", "account-add")
	require.Len(t, found, 1)
	k.Must(&found, "audit", "-network", "192.0.2.0/24")
	assert.Empty(t, found)
	assert.Contains(t, k.Refused("audit", "-network", "here"), "is no address or network")
	assert.Contains(t, k.Refused("audit", "export", "-format", "pdf"), "use csv, jsonl, xferlog, w3c")
}

// What a service promised about its trail outlives it: a checkpoint of one run holds
// the next one to it.
func TestACheckpointHoldsTheNextRunToIt(t *testing.T) {
	dir := testkit.Folder(t)
	k := testkit.StartIn(t, dir)
	k.Account("ann")
	k.Halt(0)
	again := testkit.StartIn(t, dir)
	line := strings.TrimSpace(again.Must(nil, "audit", "checkpoint"))
	var report api.AuditReport
	again.Must(&report, "audit", "verify", "-checkpoint", line)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.GreaterOrEqual(t, report.Checkpoints, 2)
	assert.Len(t, report.Key, 64)
	forged := strings.Replace(line, "urbankeep-checkpoint-1 ", "urbankeep-checkpoint-1 1", 1)
	assert.Contains(t, again.Refused("audit", "verify", "-checkpoint", forged), "was not signed with this service's key")
}

// Piped, the watch prints a line for each session and file; it ends with the service.
func TestAWatchTellsWhatHappensUntilTheServiceEnds(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	file, _ := testkit.File(t, 3000)
	out, in := io.Pipe()
	ended := make(chan int)
	var errs bytes.Buffer
	go func() {
		ended <- command.Main(t.Context(), command.Env{In: strings.NewReader(""), Out: in, Err: &errs}, cli.Commands(), []string{"session", "watch", "-data", k.Dir})
		in.Close()
	}()
	lines := bufio.NewScanner(out)
	next := func() string { require.True(t, lines.Scan()); return lines.Text() }
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	assert.Regexp(t, `^\d\d:\d\d:\d\d  in    \S+  ann from 127\.0\.0\.1 over ftps$`, next())
	upload, err := k.SFTP("ann", k.Key("ann"), fmt.Sprintf("put %s \"a\x1bb\"", file))
	require.NoError(t, err, upload)
	for {
		line := next()
		if strings.Contains(line, "  file  ") {
			assert.Regexp(t, `ann upload /a\\x1bb, 2\.9 KiB in .*, done$`, line)
			break
		}
	}
	c.Say("QUIT", 221)
	for !strings.Contains(next(), "  out   ") {
	}
	go k.Halt(5 * time.Second)
	go io.Copy(io.Discard, out)
	assert.Equal(t, 1, <-ended)
	assert.Contains(t, errs.String(), "the service ended the stream")
}

// Reports name a place by its store: each account's own way to it is found.
func TestReportsAnswerForAPlaceWhateverItIsCalled(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-mount", "/maps=files:shared/maps,ro", "-mount", "/maps/new=files:drafts")
	k.Account("ben", "-home", "files:/", "-rights", "list")
	k.Account("cat", "-mount", "/in=files:shared", "-valid-until", "2020-01-01")
	k.Account("dan")
	file, _ := testkit.File(t, 100)
	_, err := k.Curl("ann", "ftps", "/maps/f", "-T", file)
	require.Error(t, err)
	rows := func(args ...string) (found [][]string) {
		var r api.Report
		k.Must(&r, append([]string{"report"}, args...)...)
		return r.Rows
	}
	short := func(rows [][]string) (found []string) {
		for _, row := range rows {
			found = append(found, strings.Join(row[:3], " "))
		}
		return found
	}
	assert.Equal(t, []string{"ann /maps/f yes", "cat /in/maps/f not now", "ben /shared/maps/f no"}, short(rows("readers", "files:shared/maps/f")))
	assert.Equal(t, []string{"ben /shared/maps/new no", "cat /in/maps/new not now"}, sorted(short(rows("readers", "files:shared/maps/new"))), "a mount hides it from ann")
	require.Eventually(t, func() bool { return len(rows("touched", "files:shared/maps")) == 1 }, testkit.Patience, 20*time.Millisecond)
	touched := rows("touched", "files:shared/maps")[0]
	assert.Equal(t, []string{"ann", "127.0.0.1", "upload", "/maps/f", "", "refused: read-only-mount"}, touched[2:])
	assert.Contains(t, fmt.Sprint(rows("refusals")), "read-only-mount ann 1")
	assert.Empty(t, rows("unused"), "everybody is new")
	assert.Contains(t, k.Must(nil, "report", "account", "ann", "-csv"), "127.0.0.1,ftps,upload,refused: read-only-mount,1,")
	assert.Contains(t, k.Refused("report", "readers", "shared"), "is not STORE:PATH")
	assert.Contains(t, k.Refused("report", "account"), "name an account")
}

func sorted(list []string) []string { slices.Sort(list); return list }

// Whoever mistypes a word is told, and not that nothing happened.
func TestAMistypedSearchIsNoEmptyAnswer(t *testing.T) {
	k := testkit.Start(t)
	for _, args := range [][]string{{"audit", "-outcome", "refuse"}, {"audit", "-action", "put"}, {"audit", "-reason", "quota-ful"}, {"audit", "-protocol", "smtp"}, {"audit", "-count", "-outcome", "refuse"},
		{"audit", "export", "-outcome", "refuse"}, {"transfer", "list", "-outcome", "refuse"}, {"traffic", "-protocol", "smtp"}, {"traffic", "-action", "put"}, {"history", "-what", "nosuch"}} {
		assert.Contains(t, k.Refused(args...), "there is no", "%v", args)
	}
	k.Must(nil, "audit", "-action", "service-start,upload", "-outcome", "done")
	k.Must(nil, "transfer", "list", "-outcome", "running")
	help, _, _ := k.CLI("audit", "-h")
	assert.Contains(t, help, "quota-full")
	assert.Contains(t, help, "account-suspend")
}
