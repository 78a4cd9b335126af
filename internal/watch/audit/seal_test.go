package audit_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

// sealed writes a trail with checkpoints, in two sittings.
func sealed(t *testing.T, dir, account string, n int) *audit.Seal {
	var seal *audit.Seal
	for sitting := range 2 {
		db, err := records.Open(t.Context(), dir)
		require.NoError(t, err)
		seal, err = audit.OpenSeal(dir)
		require.NoError(t, err)
		trail, err := audit.Open(t.Context(), db, audit.Options{Seal: seal, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		for i := range n {
			trail.Note(keep.AuditRecord{Account: account, Action: keep.Uploading, Path: fmt.Sprintf("/%d-%d", sitting, i), Outcome: keep.Done})
		}
		trail.Close()
		require.NoError(t, db.Close())
	}
	return seal
}

func held(t *testing.T, dir string, elsewhere ...audit.Checkpoint) audit.Report {
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	seal, err := audit.OpenSeal(dir)
	require.NoError(t, err)
	report, err := audit.Verify(t.Context(), db, audit.Check{Seal: seal, Elsewhere: elsewhere})
	require.NoError(t, err)
	return report
}

func TestCheckpointsFindATrailThatWasCutShortOrMadeAnew(t *testing.T) {
	dir := t.TempDir()
	seal := sealed(t, dir, "gauge-quay", 1100)
	report := held(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, 2200, report.Checked)
	assert.GreaterOrEqual(t, report.Checkpoints, 4, "one for a thousand records, and one for each end")
	kept := seal.Last()
	assert.EqualValues(t, 2200, kept.Seq)
	again, err := seal.ParseCheckpoint(kept.String())
	require.NoError(t, err)
	assert.Equal(t, kept, again)
	_, err = seal.ParseCheckpoint(strings.Replace(kept.String(), " 2200 ", " 2199 ", 1))
	assert.ErrorContains(t, err, "was not signed with this service's key")

	change := func(statements ...string) {
		file, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
		require.NoError(t, err)
		defer file.Close()
		for _, text := range append([]string{"DROP TRIGGER IF EXISTS audit_record_never_goes"}, statements...) {
			_, err := file.Exec(text)
			require.NoError(t, err)
		}
	}
	change("DELETE FROM audit_record WHERE seq > 2190")
	report = held(t, dir)
	assert.EqualValues(t, 2191, report.BadSeq)
	assert.Contains(t, report.Problem, "the trail was cut short: it ends with record 2190, and record 2200 was there")

	// Another trail that hangs together, in its place.
	other := t.TempDir()
	sealed(t, other, "mallory", 1100)
	for _, end := range []string{"", "-wal", "-shm"} {
		os.Remove(filepath.Join(dir, "urbankeep.db"+end))
	}
	text, err := os.ReadFile(filepath.Join(other, "urbankeep.db"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "urbankeep.db"), text, 0o600))
	report = held(t, dir)
	assert.NotZero(t, report.BadSeq)
	assert.Contains(t, report.Problem, "the trail was made anew")

	// With its checkpoints taken away too, that they are gone is told; one that was kept
	// elsewhere tells more.
	require.NoError(t, os.Remove(filepath.Join(dir, "audit.checkpoints")))
	report = held(t, dir)
	assert.Equal(t, 1, report.Missing)
	assert.Contains(t, report.Problem, "there is no checkpoint near record 1000, where one is due")
	assert.Contains(t, held(t, dir, kept).Problem, "the trail was made anew: record 2200")
}

func TestTheFileOfCheckpointsIsMendedAndNotBelieved(t *testing.T) {
	dir := t.TempDir()
	sealed(t, dir, "gauge-quay", 600)
	file := filepath.Join(dir, "audit.checkpoints")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(text, "urbankeep-checkpoint-1 99"...), 0o600)) // the process ended in the middle
	assert.Zero(t, held(t, dir).BadSeq)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), " 1200 ", " 1201 ", 1)), 0o600))
	assert.Contains(t, held(t, dir).Problem, "the file of checkpoints was changed")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "audit.key"), []byte("nonsense"), 0o600))
	_, err = audit.OpenSeal(dir)
	assert.ErrorContains(t, err, "put back the one that was there")
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// However short the trail is: the records know up to where it was signed.
func TestCheckpointsThatAreGoneAreMissed(t *testing.T) {
	dir := t.TempDir()
	sealed(t, dir, "gauge-quay", 20)
	file := filepath.Join(dir, "audit.checkpoints")
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Zero(t, held(t, dir).BadSeq)
	for name, left := range map[string][]byte{"all": nil, "the last": whole[:bytes.LastIndexByte(whole[:len(whole)-1], '\n')+1]} {
		require.NoError(t, os.WriteFile(file, left, 0o600))
		assert.Contains(t, held(t, dir).Problem, "a checkpoint was signed at record 40", name)
	}
	require.NoError(t, os.Remove(file))
	assert.Contains(t, held(t, dir).Problem, "a checkpoint was signed at record 40", "the file")
	require.NoError(t, os.WriteFile(file, whole, 0o600))
	assert.Zero(t, held(t, dir).BadSeq)
}

// A journal that somebody takes away while the service runs would take records along that were acknowledged.
func TestAJournalThatIsTakenAwayIsMissed(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	seal, err := audit.OpenSeal(dir)
	require.NoError(t, err)
	ledger := &moody{DB: db}
	trail, err := audit.Open(t.Context(), ledger, audit.Options{Journal: journal(t, dir), Seal: seal, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer trail.Close()
	require.NoError(t, trail.Record(change))
	trail.Settle(t.Context())
	verified := func() audit.Report {
		report, err := audit.Verify(t.Context(), db, audit.Check{Seal: seal, Trail: trail})
		require.NoError(t, err)
		return report
	}
	assert.Zero(t, verified().BadSeq)

	ledger.full.Store(true)
	require.NoError(t, trail.Record(change))
	trail.Settle(t.Context())
	report := verified()
	assert.Equal(t, []any{int64(1), 1, int64(0)}, []any{report.Checked, report.Waiting, report.BadSeq}, report.Problem)
	assert.Len(t, trail.Unwritten(&records.AuditQuery{Limit: 5}), 1)
	assert.Empty(t, trail.Unwritten(&records.AuditQuery{Limit: 5, Account: "ann"}))
	ledger.full.Store(false)

	file := filepath.Join(dir, "audit.journal.0")
	require.NoError(t, os.Rename(file, file+"x"))
	assert.Contains(t, verified().Problem, "the journal audit.journal.0 was removed or replaced")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	assert.Contains(t, verified().Problem, "the journal audit.journal.0 was removed or replaced", "another in its place")
	require.NoError(t, os.Rename(file+"x", file))
	assert.Zero(t, verified().BadSeq)
}

// A trail of several parts is walked by several walkers; the first bad record is
// named whichever of them finds one.
func TestTheFirstBadRecordIsNamedHoweverManyWalk(t *testing.T) {
	dir := t.TempDir()
	sealed(t, dir, "gauge-quay", 3_500)
	assert.EqualValues(t, 7_000, held(t, dir).Checked)
	file, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	for _, text := range []string{"DROP TRIGGER audit_record_never_changes", "UPDATE audit_record SET bytes = 1 WHERE seq IN (6500, 5999, 6000, 6001)"} {
		_, err := file.Exec(text)
		require.NoError(t, err)
	}
	require.NoError(t, file.Close())
	report := held(t, dir)
	assert.EqualValues(t, 5999, report.BadSeq)
	assert.EqualValues(t, 5998, report.Checked)
}
