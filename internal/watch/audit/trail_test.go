package audit_test

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func written(t *testing.T, dir string, n int) {
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	for i := range n {
		require.NoError(t, trail.Record(keep.AuditRecord{Account: "gauge-quay", Action: keep.Uploading, Path: fmt.Sprintf("/level-%d.csv", i), Bytes: int64(i), Outcome: keep.Done}))
	}
	trail.Close()
	require.NoError(t, db.Close())
}

func verify(t *testing.T, dir string) audit.Report {
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	report, err := audit.Verify(t.Context(), db, audit.Check{})
	require.NoError(t, err)
	return report
}

func TestVerifyNamesTheFirstRecordThatWasTamperedWith(t *testing.T) {
	const copied = "account, operator, address, protocol, encrypted, session, action, path, target, \"offset\", bytes, duration, outcome, reason, detail, prev, digest"
	for name, c := range map[string]struct {
		sql []string
		bad int64
	}{
		"untouched":        {nil, 0},
		"changed":          {[]string{"UPDATE audit_record SET bytes = 9999 WHERE seq = 7"}, 7},
		"changed account":  {[]string{"UPDATE audit_record SET account = 'gauge-lock' WHERE seq = 12"}, 12},
		"fields shifted":   {[]string{"UPDATE audit_record SET path = '', target = path WHERE seq = 3"}, 3},
		"deleted":          {[]string{"DELETE FROM audit_record WHERE seq = 5"}, 5},
		"first deleted":    {[]string{"DELETE FROM audit_record WHERE seq = 1"}, 1},
		"closed up":        {[]string{"DELETE FROM audit_record WHERE seq = 5", "UPDATE audit_record SET seq = seq - 1 WHERE seq > 5"}, 5},
		"inserted":         {[]string{"UPDATE audit_record SET seq = -(seq + 1) WHERE seq > 9", "UPDATE audit_record SET seq = -seq WHERE seq < 0", "INSERT INTO audit_record (seq, at, " + copied + ") SELECT 10, at, " + copied + " FROM audit_record WHERE seq = 9"}, 10},
		"reordered":        {[]string{"UPDATE audit_record SET seq = 0 WHERE seq = 4", "UPDATE audit_record SET seq = 4 WHERE seq = 5", "UPDATE audit_record SET seq = 5 WHERE seq = 0"}, 4},
		"digest made anew": {[]string{"UPDATE audit_record SET detail = 'x', digest = randomblob(32) WHERE seq = 8"}, 8},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			written(t, dir, 20)
			file, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
			require.NoError(t, err)
			for _, statement := range append([]string{"DROP TRIGGER audit_record_never_changes", "DROP TRIGGER audit_record_never_goes"}, c.sql...) {
				_, err := file.Exec(statement)
				require.NoError(t, err, statement)
			}
			require.NoError(t, file.Close())
			report := verify(t, dir)
			assert.Equal(t, c.bad, report.BadSeq, report.Problem)
			if c.bad == 0 {
				assert.EqualValues(t, 20, report.Checked)
			} else {
				assert.Equal(t, c.bad-1, report.Checked)
			}
		})
	}
}

func TestTheDatabaseItselfRefusesToChangeOrDeleteRecords(t *testing.T) {
	dir := t.TempDir()
	written(t, dir, 2)
	file, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	defer file.Close()
	for _, statement := range []string{"DELETE FROM audit_record", "UPDATE audit_record SET path = ''"} {
		_, err := file.Exec(statement)
		assert.ErrorContains(t, err, "append-only")
	}
}

func TestRecordsFromManyGoroutinesMakeOneChainAcrossRestarts(t *testing.T) {
	dir := t.TempDir()
	for range 2 {
		db, err := records.Open(t.Context(), dir)
		require.NoError(t, err)
		trail, err := audit.Open(t.Context(), db, audit.Options{Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		var writers sync.WaitGroup
		for w := range 16 {
			writers.Go(func() {
				for i := range 50 {
					r := keep.AuditRecord{Account: fmt.Sprint("crew-", w), Action: keep.Uploading, Path: fmt.Sprint("/", i), Outcome: keep.Done}
					if i%2 == 0 {
						trail.Note(r)
					} else {
						assert.NoError(t, trail.Record(r))
					}
				}
			})
		}
		writers.Wait()
		trail.Close()
		assert.Error(t, trail.Record(keep.AuditRecord{}), "a closed trail takes nothing")
		require.NoError(t, db.Close())
	}
	report := verify(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, 2*16*50, report.Checked)
}

// moody is a ledger whose disk is full now and then, or that takes its time.
type moody struct {
	*records.DB
	full atomic.Bool
	gate chan struct{} // nil: open
}

func (m *moody) AppendAudit(ctx context.Context, batch []records.ChainedRecord) error {
	if m.gate != nil {
		<-m.gate
	}
	if m.full.Load() {
		return errors.New("database or disk is full")
	}
	return m.DB.AppendAudit(ctx, batch)
}

func journal(t *testing.T, dir string) *audit.Journal {
	j, err := audit.OpenJournal(dir)
	require.NoError(t, err)
	return j
}

var change = keep.AuditRecord{Action: keep.Deleting, Path: "/a\xff", Outcome: keep.Done}

func TestALedgerThatFailsLosesNothingAndLeavesNoGap(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	ledger := &moody{DB: db}
	trail, err := audit.Open(t.Context(), ledger, audit.Options{Journal: journal(t, dir), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, trail.Record(change))
	trail.Settle(t.Context())
	ledger.full.Store(true)
	kept := 1
	require.Eventually(t, func() bool { // what is acknowledged until it is known is in the journal
		err := trail.Record(change)
		if err == nil {
			kept++
		}
		return err != nil && keep.FaultOf(err).Reason == keep.TrailUnavailable
	}, 2*time.Minute, 5*time.Millisecond)
	ledger.full.Store(false)
	require.Eventually(t, func() bool { return trail.Record(change) == nil }, 2*time.Minute, 20*time.Millisecond)
	trail.Close()
	require.NoError(t, db.Close())
	report := verify(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, kept+1, report.Checked)
}

func TestAJournalThatCannotBeWrittenAcknowledgesNothing(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	j := journal(t, dir)
	trail, err := audit.Open(t.Context(), db, audit.Options{Journal: j, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, trail.Record(change))
	trail.Settle(t.Context())
	require.NoError(t, j.Close()) // as good as a disk that is gone
	trail.Note(change)            // waits for a line that is written
	assert.Equal(t, keep.TrailUnavailable, keep.FaultOf(trail.Record(change)).Reason)
	assert.Equal(t, keep.TrailUnavailable, keep.FaultOf(trail.Record(change)).Reason)
	trail.Close()
	require.NoError(t, db.Close())
	report := verify(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, 2, report.Checked, "what was refused is not in the trail")
}

// What was acknowledged and has not come to the ledger when the process ends comes to it
// at the next start: as it was, once, and without what was only half written.
func TestAfterAnEndWithoutGoodbyeTheJournalIsBroughtIn(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	ledger := &moody{DB: db, gate: make(chan struct{}, 1)}
	trail, err := audit.Open(t.Context(), ledger, audit.Options{Journal: journal(t, dir), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	ledger.gate <- struct{}{}
	require.NoError(t, trail.Record(change)) // one that the ledger has got
	trail.Settle(t.Context())
	for n := range 3000 { // enough for both files
		r := change
		r.Detail = strings.Repeat("x", 500)
		if n%3 == 0 {
			trail.Note(r)
		} else {
			require.NoError(t, trail.Record(r))
		}
	}
	require.NoError(t, trail.Record(change))
	copied := t.TempDir()
	require.NoError(t, os.CopyFS(copied, os.DirFS(dir)))
	close(ledger.gate)
	trail.Close()
	require.NoError(t, db.Close())
	assert.EqualValues(t, 3002, verify(t, dir).Checked)

	torn := filepath.Join(copied, "audit.journal.0")
	text, err := os.ReadFile(torn)
	require.NoError(t, err)
	end := len(bytes.TrimRight(text, "\x00"))
	clear(text[end-20 : end])
	require.NoError(t, os.WriteFile(torn, text, 0o600))
	for range 2 {
		again, err := records.Open(t.Context(), copied)
		require.NoError(t, err)
		next, err := audit.Open(t.Context(), again, audit.Options{Journal: journal(t, copied), Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		require.NoError(t, next.Record(change))
		next.Close()
		require.NoError(t, again.Close())
	}
	report := verify(t, copied)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, 3003, report.Checked, "all but the one that was only half written")
}

// What was announced and has no record when the process ends gets one at the next start;
// what has one doesn't, in whichever file of the journal the two lie.
// stillCopy copies a folder in which nothing is written while it is copied: two copies agree.
func stillCopy(t *testing.T, dir string) string {
	for {
		first, second := t.TempDir(), t.TempDir()
		require.NoError(t, os.CopyFS(first, os.DirFS(dir)))
		require.NoError(t, os.CopyFS(second, os.DirFS(dir)))
		if exec.Command("diff", "-r", first, second).Run() == nil {
			return first
		}
	}
}

func TestWhatTheEndOfTheProcessCutOffIsInTheTrail(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Journal: journal(t, dir), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	upload := keep.AuditRecord{Account: "ann", Action: keep.Uploading, Path: "/early"}
	early, err := trail.Announce(upload, "files:ann/early")
	require.NoError(t, err)
	for n := range 4000 { // until the journal has turned more than once
		r := keep.AuditRecord{Action: keep.MakeDir, Path: fmt.Sprint("/d", n), Outcome: keep.Done, Detail: strings.Repeat("x", 500)}
		end, err := trail.Announce(r, "")
		require.NoError(t, err)
		require.NoError(t, end(r))
	}
	upload.Path = "/late"
	_, err = trail.Announce(upload, "files:ann/late")
	require.NoError(t, err)
	trail.Settle(t.Context())
	copied := stillCopy(t, dir)
	upload.Path, upload.Outcome = "/early", keep.Done
	require.NoError(t, early(upload))
	trail.Close()
	require.NoError(t, db.Close())
	for root, want := range map[string][]string{copied: {"/early", "/late"}, dir: {"/late"}} {
		for range 2 { // the second start finds nothing more
			again, err := records.Open(t.Context(), root)
			require.NoError(t, err)
			next, err := audit.Open(t.Context(), again, audit.Options{Journal: journal(t, root), Log: slog.New(slog.DiscardHandler),
				CutOff: func(b audit.Begun) string { return "of " + b.Place }})
			require.NoError(t, err)
			found, _, err := again.SearchAudit(t.Context(), records.AuditQuery{Reason: string(keep.CutOff), Limit: 10})
			require.NoError(t, err)
			var got []string
			for _, r := range found {
				got = append(got, r.Path)
				assert.Equal(t, "the service ended while this was under way: of files:ann"+r.Path, r.Detail)
				assert.Equal(t, keep.Interrupted, r.Outcome)
			}
			assert.ElementsMatch(t, want, got)
			next.Close()
			require.NoError(t, again.Close())
		}
		report := verify(t, root)
		assert.Zero(t, report.BadSeq, report.Problem)
	}
}

// Whoever fails again and again can't make the service hold what it has not written.
func TestNotesDoNotPileUpInMemory(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	trail, err := audit.Open(t.Context(), db, audit.Options{Journal: journal(t, dir), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer trail.Close()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	for n := range 30_000 {
		trail.Note(keep.AuditRecord{Action: keep.Deleting, Path: strings.Repeat("x", 2000) + fmt.Sprint(n), Outcome: keep.Refused, Reason: keep.NotFound})
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(24<<20), "60 MB were noted")
	sum := int64(0)
	for _, n := range []string{"0", "1"} {
		info, err := os.Stat(filepath.Join(dir, "audit.journal."+n))
		require.NoError(t, err)
		sum += info.Size()
	}
	assert.Less(t, sum, int64(32<<20), "nor does the journal grow without bound")
}

// A night in which nothing happens leaves no record unsigned, and one can be signed now.
func TestTheLastRecordsAreSignedWithoutWaitingForMore(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	seal, err := audit.OpenSeal(dir)
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Journal: journal(t, dir), Seal: seal, Quiet: 50 * time.Millisecond, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer trail.Close()
	require.NoError(t, trail.Record(change))
	require.Eventually(t, func() bool { return seal.Last().Seq == 1 }, 2*time.Minute, 10*time.Millisecond, "waited for a checkpoint")
	require.NoError(t, trail.Record(change))
	require.NoError(t, trail.Sign(t.Context()))
	assert.EqualValues(t, 2, seal.Last().Seq)
}

// A journal that belongs to another trail is not believed, and not thrown away.
func TestAJournalThatDoesNotFollowIsSetAside(t *testing.T) {
	dir := t.TempDir()
	written(t, dir, 3)
	other := t.TempDir()
	elsewhere, err := records.Open(t.Context(), other)
	require.NoError(t, err)
	ledger := &moody{DB: elsewhere, gate: make(chan struct{}, 1)}
	wrong, err := audit.Open(t.Context(), ledger, audit.Options{Journal: journal(t, other), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	for range 4 { // the fourth would be the next, but for what stands before it
		require.NoError(t, wrong.Record(change))
	}
	text, err := os.ReadFile(filepath.Join(other, "audit.journal.0"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "audit.journal.1"), text, 0o600))
	close(ledger.gate)
	wrong.Close()
	require.NoError(t, elsewhere.Close())
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Journal: journal(t, dir), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	trail.Close()
	require.NoError(t, db.Close())
	assert.EqualValues(t, 3, verify(t, dir).Checked)
	kept, err := filepath.Glob(filepath.Join(dir, "audit.journal.1.*"))
	require.NoError(t, err)
	assert.Len(t, kept, 1)
}

func BenchmarkRecord(b *testing.B) {
	db, err := records.Open(b.Context(), b.TempDir())
	require.NoError(b, err)
	j, err := audit.OpenJournal(b.TempDir())
	require.NoError(b, err)
	trail, err := audit.Open(b.Context(), db, audit.Options{Journal: j, Log: slog.New(slog.DiscardHandler)})
	require.NoError(b, err)
	b.SetParallelism(16)
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			if err := trail.Record(keep.AuditRecord{Account: "gauge-quay", Action: keep.Uploading, Path: "/level.csv", Outcome: keep.Done}); err != nil {
				b.Fatal(err)
			}
		}
	})
	trail.Close()
	db.Close()
}

// A sync that failed has failed for whoever waited beside the one who was told, and for who comes while what was written may be
// gone: a later sync of the same file says nothing of it. Once the ledger has what was in doubt, things go on in the other file.
func TestASyncThatFailedHasFailedForAllWhoWaited(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	ledger := &moody{DB: db, gate: make(chan struct{}, 1)}
	var failing atomic.Bool
	entered, on := make(chan struct{}, 100), make(chan struct{})
	trail, err := audit.Open(t.Context(), ledger, audit.Options{Journal: journal(t, dir), Log: slog.New(slog.DiscardHandler), Power: func() bool { return true },
		Sync: func(f *os.File) error {
			if !failing.Load() {
				return f.Sync()
			}
			entered <- struct{}{}
			<-on
			failing.Store(false) // the next one goes well, as the system's does
			return syscall.EIO
		}})
	require.NoError(t, err)
	require.NoError(t, trail.Record(change))
	failing.Store(true)
	told := make(chan error, 20)
	go func() { told <- trail.Record(change) }()
	<-entered
	for range 9 {
		go func() { told <- trail.Record(change) }()
	}
	time.Sleep(50 * time.Millisecond) // until they wait, too
	close(on)
	for range 10 {
		assert.Equal(t, keep.TrailUnavailable, keep.FaultOf(<-told).Reason)
	}
	assert.Error(t, trail.Record(change), "while what was written may be gone")
	close(ledger.gate)
	require.Eventually(t, func() bool { return trail.Record(change) == nil }, time.Minute, 10*time.Millisecond)
	require.NoError(t, trail.Record(change))
	trail.Close()
	require.NoError(t, db.Close())
	report := verify(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
}
