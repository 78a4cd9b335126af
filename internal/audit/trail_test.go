package audit_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"urbankeep/internal/audit"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func written(t *testing.T, dir string, n int) {
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, nil, slog.New(slog.DiscardHandler))
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
		trail, err := audit.Open(t.Context(), db, nil, slog.New(slog.DiscardHandler))
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

// broken is a ledger whose disk is full now and then.
type broken struct {
	*records.DB
	full bool
}

func (b *broken) AppendAudit(ctx context.Context, batch []records.ChainedRecord) error {
	if b.full {
		return errors.New("database or disk is full")
	}
	return b.DB.AppendAudit(ctx, batch)
}

func TestWhatCannotBeRecordedIsAnErrorAndLeavesNoGap(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	ledger := &broken{DB: db}
	trail, err := audit.Open(t.Context(), ledger, nil, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	r := keep.AuditRecord{Action: keep.Deleting, Path: "/a", Outcome: keep.Done}
	require.NoError(t, trail.Record(r))
	ledger.full = true
	assert.Equal(t, keep.TrailUnavailable, keep.FaultOf(trail.Record(r)).Reason)
	ledger.full = false
	require.NoError(t, trail.Record(r))
	trail.Close()
	require.NoError(t, db.Close())
	report := verify(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, 2, report.Checked)
}

func BenchmarkRecord(b *testing.B) {
	db, err := records.Open(b.Context(), b.TempDir())
	require.NoError(b, err)
	trail, err := audit.Open(b.Context(), db, nil, slog.New(slog.DiscardHandler))
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
