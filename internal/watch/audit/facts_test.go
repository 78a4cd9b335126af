package audit_test

import (
	"database/sql"
	"encoding/json"
	"log/slog"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

// told is a record with every fact there is.
func told() keep.AuditRecord {
	return keep.AuditRecord{Account: "gauge-quay", Action: keep.Uploading, Path: "/level.csv", Outcome: keep.Done, Detail: "SHA-256 of nothing; it replaced a file",
		Facts: keep.Facts{Hash: strings.Repeat("ab", 32), Replaced: true, Piece: true, Held: true, Rehearsal: true, Holder: "ann and ben", Before: json.RawMessage(`{"note":"a\nb <c>"}`), After: json.RawMessage(`{}`), Undoes: 7}}
}

// kept are its facts as the trail has them.
func kept() keep.Facts {
	f := told().Facts
	f.Before = json.RawMessage(`{"note":"a\nb \u003cc\u003e"}`)
	return f
}

// A trail as it was when facts stood in sentences, with an archive and a journal that was not brought in.
func TestAnOldTrailOpensVerifiesAndGoesOnInTheNewLayout(t *testing.T) {
	dir := t.TempDir()
	out, err := exec.Command("tar", "xzf", "testdata/trail-of-32.tgz", "-C", dir).CombinedOutput()
	require.NoError(t, err, string(out))
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Journal: journal(t, dir), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, trail.Record(told()))
	trail.Close()

	found, _, err := db.SearchAudit(t.Context(), records.AuditQuery{Text: "it replaced a FILE", Limit: 100})
	require.NoError(t, err)
	require.Len(t, found, 11, "ten of then, one of now")
	assert.Equal(t, kept(), found[0].Facts, "each fact is what it was")
	last := api.RecordOf(&found[1])
	assert.Equal(t, []any{"/level 19", strings.Repeat("13", 32)}, []any{last.Path, last.Hash}, "hashes of then are found")
	found, _, err = db.SearchAudit(t.Context(), records.AuditQuery{Text: "ann and ben", Limit: 100})
	require.NoError(t, err)
	assert.Len(t, found, 1, "a search looks into facts too")
	require.NoError(t, db.Close())
	report := held(t, dir)
	assert.Zero(t, report.BadSeq, report.Problem)
	assert.EqualValues(t, 421, report.Checked)

	raw, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	_, err = raw.Exec("DROP TRIGGER audit_record_never_changes")
	require.NoError(t, err)
	for _, lie := range []string{"UPDATE audit_record SET facts = replace(facts, 'ab', 'cd') WHERE seq = 421", "UPDATE audit_record SET facts = '' WHERE seq = 421",
		"UPDATE audit_record SET facts = 'unheard of' WHERE seq = 421", "UPDATE audit_record SET facts = 'replaced true' || char(10) WHERE seq = 420"} {
		tx, err := raw.Begin()
		require.NoError(t, err)
		var was string
		require.NoError(t, tx.QueryRow("SELECT facts FROM audit_record WHERE seq = 421").Scan(&was))
		_, err = tx.Exec(lie)
		require.NoError(t, err)
		require.NoError(t, tx.Commit())
		assert.NotZero(t, held(t, dir).BadSeq, lie)
		_, err = raw.Exec("UPDATE audit_record SET facts = CASE seq WHEN 421 THEN ? ELSE '' END WHERE seq >= 420", was)
		require.NoError(t, err)
		assert.Zero(t, held(t, dir).BadSeq, lie)
	}
	require.NoError(t, raw.Close())
}

// A record keeps its facts on each of its ways: through the journal alone, an archive, and out as text.
func TestFactsGoEveryWay(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	ledger := &moody{DB: db, gate: make(chan struct{})}
	trail, err := audit.Open(t.Context(), ledger, audit.Options{Journal: journal(t, dir), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	r := told()
	r.Detail = strings.Repeat("é", 5000)
	require.NoError(t, trail.Record(r))
	require.NoError(t, trail.Record(r)) // the newest never goes into an archive
	copied := stillCopy(t, dir)
	close(ledger.gate)
	trail.Close()
	require.NoError(t, db.Close())

	db, err = records.Open(t.Context(), copied)
	require.NoError(t, err)
	seal, err := audit.OpenSeal(copied)
	require.NoError(t, err)
	trail, err = audit.Open(t.Context(), db, audit.Options{Journal: journal(t, copied), Seal: seal, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	trail.Close()
	last, err := db.LastAudit(t.Context())
	require.NoError(t, err)
	assert.Equal(t, kept(), last.Facts, "by the journal")
	assert.Equal(t, strings.Repeat("é", 4096), last.Detail, "it ends between two characters")
	for _, form := range []struct{ name, has string }{{"csv", `,true,true,true,true,ann and ben,"{""note"":`}, {"jsonl", `"replaced":true,"piece":true,"held":true,"rehearsal":true,"holder":"ann and ben","before":{"note":"a\nb `}} {
		f, err := audit.FormatNamed(form.name)
		require.NoError(t, err)
		var out strings.Builder
		require.NoError(t, f.Line(&out, &last.AuditRecord))
		assert.Contains(t, out.String(), form.has)
	}
	assert.Contains(t, audit.Syslog("keep", &last.AuditRecord), `holder="ann and ben" before="{\"note\":`)

	made, err := audit.Retire(t.Context(), db, seal, &keep.Retention{Days: 1}, last.At.AddDate(0, 0, 3), 1<<60)
	require.NoError(t, err)
	require.Len(t, made, 1)
	require.NoError(t, audit.ReadArchive(seal.ArchiveFile(made[0].Name), func(r *records.ChainedRecord) error {
		assert.Equal(t, kept(), r.Facts, "by an archive")
		return nil
	}))
	require.NoError(t, db.Close())
	assert.Zero(t, held(t, copied).BadSeq)
}
