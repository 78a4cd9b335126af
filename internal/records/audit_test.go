package records_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// Whatever is asked for, the pages of a search hold each record that matches, once,
// newest first: as looking at every record one by one says.
func TestSearchesFindWhatLookingAtEveryRecordFinds(t *testing.T) {
	db, err := records.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer db.Close()
	r := rand.New(rand.NewPCG(3, 4))
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	began := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	var all []keep.AuditRecord
	jumps := map[int64]time.Duration{4000: 30 * 24 * time.Hour, 4700: 0, 9000: -2 * time.Hour, 13_000: time.Hour, 17_500: 0} // of the clock
	jumped := time.Duration(0)
	for len(all) < 21_000 { // more than a stretch
		var batch []records.ChainedRecord
		for range 3000 {
			seq := int64(len(all) + 1)
			if to, jumps := jumps[seq]; jumps {
				jumped = to
			}
			one := keep.AuditRecord{Seq: seq, At: began.Add(jumped + time.Duration(seq)*time.Second + time.Duration(r.IntN(3000))*time.Millisecond), Account: pick("ann", "ben", "cat", ""), Address: fmt.Sprintf("192.0.2.%d", r.IntN(20)),
				Protocol: keep.Protocol(pick("ftp", "sftp")), Session: fmt.Sprint("S", seq/10), Action: keep.Action(pick("upload", "download", "delete", "list")), Path: pick("/in/a.tif", "/in/b.LAS", "/inside/x", "/out/Report.pdf", "/"),
				Outcome: keep.Outcome(pick("done", "done", "done", "refused")), Detail: pick("", "", "the grant on / gives none")}
			if one.Account == "" {
				one.Operator = pick("ilse", "tomas")
			}
			if one.Outcome == keep.Refused {
				one.Reason = keep.Reason(pick("no-right", "quota-full"))
			}
			all = append(all, one)
			batch = append(batch, records.ChainedRecord{AuditRecord: one, Prev: make([]byte, 32), Digest: make([]byte, 32)})
		}
		require.NoError(t, db.AppendAudit(t.Context(), batch))
	}
	some := func(do func()) {
		if r.IntN(4) == 0 {
			do()
		}
	}
	for range 12 {
		q := records.AuditQuery{Limit: 300 + r.IntN(3000)}
		some(func() { q.Account = pick("ann", "nobody") })
		some(func() { q.Operator = "ilse" })
		some(func() { q.Address = "192.0.2.7" })
		some(func() { q.Networks = keep.Networks{netip.MustParsePrefix("192.0.2.0/30")} })
		some(func() { q.Protocol = "ftp" })
		some(func() { q.Session = "S4000" })
		some(func() { q.Actions = []keep.Action{keep.Uploading, keep.Deleting}[:1+r.IntN(2)] })
		some(func() { q.Outcome = pick("done", "refused") })
		some(func() { q.Reason = "quota-full" })
		some(func() { q.PathBelow = pick("/in", "/in/", "/") })
		some(func() { q.PathHas = "report" })
		some(func() { q.Text = "GIVES" })
		some(func() { q.Since = began.Add(time.Duration(r.IntN(21_000)) * time.Second) })
		some(func() { q.Until = began.Add(time.Duration(r.IntN(21_000)) * time.Second) })
		var want, got []int64
		for i := len(all) - 1; i >= 0; i-- {
			if q.Matches(&all[i]) {
				want = append(want, all[i].Seq)
			}
		}
		for {
			page, next, err := db.SearchAudit(t.Context(), q)
			require.NoError(t, err)
			require.LessOrEqual(t, len(page), q.Limit)
			for _, one := range page {
				got = append(got, one.Seq)
			}
			if next == 0 {
				break
			}
			q.Before = next
		}
		q.Before = 0
		assert.Equal(t, want, got, "%+v", q)
		count, more, err := db.CountAudit(t.Context(), q)
		require.NoError(t, err)
		if more { // a slow machine: it counted as long as it may
			assert.LessOrEqual(t, count, int64(len(want)), "%+v", q)
		} else {
			assert.EqualValues(t, len(want), count, "%+v", q)
		}
	}
}
