package audit_test

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

// aged writes records of 100 days, four a day, of three kinds; then gives what retiring
// them by a retention made.
func aged(t *testing.T, dir string, keeps keep.Retention) []records.AuditArchive {
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	seal, err := audit.OpenSeal(dir)
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Seal: seal, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	begin := time.Now().AddDate(0, 0, -100)
	for n := range 400 {
		r := keep.AuditRecord{At: begin.Add(time.Duration(n) * 6 * time.Hour), Account: "gauge-quay", Action: keep.Uploading, Path: fmt.Sprintf("/tide %d\xff\n\"", n), Bytes: int64(n), Duration: 123457 * time.Microsecond, Outcome: keep.Done}
		switch {
		case n%10 == 3:
			r.Action = keep.Listing
		case n%10 == 7:
			r.Account, r.Operator, r.Action, r.Detail = "", "ilse", keep.AccountSet, `{"before":null}`
		}
		trail.Note(r)
	}
	trail.Close()
	made, err := audit.Retire(t.Context(), db, seal, &keeps, time.Now(), 1<<60)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	return made
}

var byKind = keep.Retention{Days: 50, Kinds: []keep.KindRetention{{Actions: []keep.Action{keep.Listing}, Days: 10}, {Actions: []keep.Action{keep.AccountSet}}}}

func TestWhatHasStayedLongEnoughIsSealedAndTheChainStillHolds(t *testing.T) {
	dir := t.TempDir()
	made := aged(t, dir, byKind)
	require.Len(t, made, 1)
	assert.InDelta(t, 180+16, made[0].Records, 3, "of 50 days all but the operators', of 40 more the listings")
	report := held(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, 400, report.Checked, "those in the file too")
	assert.Equal(t, made[0].Records, report.Archived)
	assert.Equal(t, 1, report.Archives)
	assert.Positive(t, report.Checkpoints)

	seal, err := audit.OpenSeal(dir)
	require.NoError(t, err)
	count := 0
	require.NoError(t, audit.ReadArchive(seal.ArchiveFile(made[0].Name), func(r *records.ChainedRecord) error {
		count++
		assert.NotEqual(t, keep.AccountSet, r.Action)
		assert.Equal(t, fmt.Sprintf("/tide %d\xff\n\"", r.Seq-1), r.Path, "byte for byte")
		return nil
	}))
	assert.EqualValues(t, made[0].Records, count)

	// The next turn takes what came after; records go on where they were.
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Seal: seal, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, trail.Record(keep.AuditRecord{Account: "gauge-quay", Action: keep.Uploading, Outcome: keep.Done}))
	trail.Close()
	more, err := audit.Retire(t.Context(), db, seal, &keep.Retention{Days: 1}, time.Now(), 1<<60)
	require.NoError(t, err)
	require.Len(t, more, 1)
	last, err := db.LastAudit(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 401, last.Seq)
	none, err := audit.Retire(t.Context(), db, seal, &keep.Retention{Days: 1}, time.Now(), 1<<60)
	require.NoError(t, err)
	assert.Empty(t, none)
	require.NoError(t, db.Close())
	report = held(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, 401, report.Checked)

	// Files may be kept elsewhere; then the trail is still proven across the cut.
	for _, a := range append(made, more...) {
		require.NoError(t, os.Remove(seal.ArchiveFile(a.Name)))
	}
	report = held(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.Equal(t, 2, report.Elsewhere)
	assert.Less(t, report.Checked, int64(60))
}

func TestArchivesCanNeitherHideNorChangeRecords(t *testing.T) {
	for name, tamper := range map[string]struct {
		do  func(t *testing.T, dir, file string, db *sql.DB)
		say string
	}{
		"a record more taken out, and called archived": {func(t *testing.T, _, _ string, db *sql.DB) {
			run(t, db, "UPDATE audit_gap SET last = last + 1 WHERE first = (SELECT max(first) FROM audit_gap)", "DELETE FROM audit_record WHERE seq = (SELECT max(last) FROM audit_gap)")
		}, "does not follow"},
		"the same with the right digest": {func(t *testing.T, _, _ string, db *sql.DB) {
			run(t, db, "UPDATE audit_gap SET last = last + 1, digest = (SELECT r.digest FROM audit_record r WHERE r.seq = last + 1) WHERE first = (SELECT max(first) FROM audit_gap)", "DELETE FROM audit_record WHERE seq = (SELECT max(last) FROM audit_gap)")
		}, "did not sign"},
		"a gap of an archive that never was": {func(t *testing.T, _, _ string, db *sql.DB) {
			run(t, db, "INSERT INTO audit_gap SELECT seq, seq, prev, digest, 'none' FROM audit_record WHERE seq = 395", "DELETE FROM audit_record WHERE seq = 395")
		}, "there is no archive"},
		"a gap forgotten": {func(t *testing.T, _, _ string, db *sql.DB) {
			run(t, db, "DELETE FROM audit_gap WHERE first = (SELECT max(first) FROM audit_gap)")
		}, "is missing"},
		"the file changed": {func(t *testing.T, _, file string, _ *sql.DB) {
			rewrite(t, file, func(text string) string { return strings.Replace(text, `"bytes":100,`, `"bytes":101,`, 1) })
		}, "its SHA-256 is another one"},
		"the file and its digest changed": {func(t *testing.T, _, file string, db *sql.DB) {
			rewrite(t, file, func(text string) string { return strings.Replace(text, `"bytes":100,`, `"bytes":101,`, 1) })
			run(t, db, "UPDATE audit_archive SET sha256 = x'"+strings.Repeat("00", 32)+"'")
		}, "did not sign"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			made := aged(t, dir, byKind)
			db, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
			require.NoError(t, err)
			tamper.do(t, dir, filepath.Join(dir, "archive", made[0].Name), db)
			require.NoError(t, db.Close())
			report := held(t, dir)
			assert.NotZero(t, report.BadSeq)
			assert.Contains(t, report.Problem, tamper.say)
		})
	}
}

// run changes the database as somebody with the file could: without its guards.
func run(t *testing.T, db *sql.DB, statements ...string) {
	_, err := db.Exec("DROP TRIGGER IF EXISTS audit_record_never_goes")
	require.NoError(t, err)
	for _, s := range statements {
		done, err := db.Exec(s)
		require.NoError(t, err, s)
		n, err := done.RowsAffected()
		require.NoError(t, err)
		require.NotZero(t, n, s)
	}
}

func rewrite(t *testing.T, file string, change func(string) string) {
	packed, err := os.ReadFile(file)
	require.NoError(t, err)
	in, err := gzip.NewReader(bytes.NewReader(packed))
	require.NoError(t, err)
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	changed := change(string(text))
	require.NotEqual(t, string(text), changed)
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err = io.WriteString(w, changed)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(file, out.Bytes(), 0o600))
}

// What an end without goodbye leaves half done: records that are archived and still
// there, and a file that was not finished.
func TestAnArchiveThatWasInterruptedIsFinished(t *testing.T) {
	dir := t.TempDir()
	made := aged(t, dir, byKind)
	db, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	seal, err := audit.OpenSeal(dir)
	require.NoError(t, err)
	back := 0
	require.NoError(t, audit.ReadArchive(seal.ArchiveFile(made[0].Name), func(r *records.ChainedRecord) error {
		if back++; back%3 == 0 {
			_, err := db.Exec(`INSERT INTO audit_record VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`, r.Seq, r.At.UnixMicro(), r.Account, r.Operator, r.Address, string(r.Protocol), r.Encrypted, r.Session,
				string(r.Action), r.Path, r.Target, r.Offset, r.Bytes, r.Duration.Microseconds(), string(r.Outcome), string(r.Reason), r.Detail, r.Prev, r.Digest, r.Facts.Text())
			return err
		}
		return nil
	}))
	half := seal.ArchiveFile("unfinished-1")
	require.NoError(t, os.WriteFile(half, []byte("half"), 0o600))
	_, err = db.Exec("UPDATE audit_archive SET removed = 0")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	report := held(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)

	again, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	none, err := audit.Retire(t.Context(), again, seal, &byKind, time.Now(), 1<<60)
	require.NoError(t, err)
	assert.Empty(t, none)
	assert.NoFileExists(t, half)
	left, _, err := again.CountAudit(t.Context(), records.AuditQuery{})
	require.NoError(t, err)
	assert.EqualValues(t, 400-made[0].Records, left)
	require.NoError(t, again.Close())
	report = held(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
}
