package series_test

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
	"urbankeep/internal/watch/series"
)

type house struct {
	t     *testing.T
	db    *records.DB
	trail *audit.Trail
	book  *series.Book
	told  atomic.Pointer[series.Book] // book, for the trail's goroutine
}

func (h *house) start() {
	h.book = series.Open(h.db, slog.New(slog.DiscardHandler))
	h.told.Store(h.book)
}

func newHouse(t *testing.T) *house {
	db, err := records.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	h := &house{t: t, db: db, trail: trail}
	h.start()
	trail.Watch(func(r []keep.AuditRecord) { h.told.Load().Recorded(r) })
	t.Cleanup(func() {
		h.book.Close()
		trail.Close()
		assert.NoError(t, db.Close())
	})
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: t.TempDir()}))
	require.NoError(t, db.SaveGroup(t.Context(), &keep.Group{Name: "crews", Mounts: []keep.Mount{{At: "/maps", Store: "files", Folder: "shared/maps"}}}))
	for _, name := range []string{"ann", "ben"} {
		a := &keep.Account{Name: name, State: "active", Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "{account}"}}}
		if name == "ann" {
			a.Groups = []string{"crews"}
		}
		require.NoError(t, db.AddAccount(t.Context(), a))
	}
	return h
}

func (h *house) note(r keep.AuditRecord) {
	if r.Protocol == "" {
		r.Protocol = keep.SFTP
	}
	if r.Outcome == "" {
		r.Outcome = keep.Done
	}
	require.NoError(h.t, h.trail.Record(r))
}

// noon is a time whose hours are still told apart.
var noon = time.Now().UTC().Truncate(24 * time.Hour).Add(-36 * time.Hour)

func (h *house) ask(q series.Query) *series.Answer {
	if q.Since.IsZero() {
		q.Since, q.Until = noon.Add(-12*time.Hour), noon.Add(12*time.Hour)
	}
	h.trail.Settle(h.t.Context())
	a, err := h.book.Ask(h.t.Context(), q)
	require.NoError(h.t, err)
	return a
}

func TestTrafficIsBrokenDownByEachWord(t *testing.T) {
	h := newHouse(t)
	h.note(keep.AuditRecord{At: noon, Account: "ann", Address: "192.0.2.1", Action: keep.Uploading, Path: "/a", Bytes: 100})
	h.note(keep.AuditRecord{At: noon, Account: "ann", Address: "192.0.2.1", Action: keep.Downloading, Path: "/maps/m", Bytes: 40})
	h.note(keep.AuditRecord{At: noon, Account: "ben", Address: "192.0.2.2", Action: keep.Uploading, Path: "/b", Bytes: 7, Protocol: keep.FTPS})
	h.note(keep.AuditRecord{At: noon, Account: "ben", Address: "192.0.2.2", Action: keep.Deleting, Path: "/b", Outcome: keep.Refused, Protocol: keep.FTPS})
	h.note(keep.AuditRecord{At: noon, Account: "ben", Address: "192.0.2.2", Action: keep.Uploading, Path: "/b", Outcome: keep.Interrupted, Bytes: 1, Protocol: keep.FTPS})
	h.note(keep.AuditRecord{At: noon, Account: "guessed", Address: "198.51.100.9", Action: keep.SignIn, Outcome: keep.Refused})
	h.note(keep.AuditRecord{At: noon, Operator: "ilse", Protocol: keep.Console, Action: keep.AccountSet, Target: "ann"})
	for by, want := range map[string][]string{
		"account":  {"ann 100 40 2 0 0", "ben 8 0 3 1 1", " 0 0 1 1 0"},
		"group":    {"crews 100 40 2 0 0", " 8 0 4 2 1"},
		"address":  {"192.0.2.1 100 40 2 0 0", "192.0.2.2 8 0 3 1 1", "198.51.100.9 0 0 1 1 0"},
		"protocol": {"sftp 100 40 3 1 0", "ftps 8 0 3 1 1"},
		"action":   {"upload 108 0 3 0 1", "download 0 40 1 0 0", "delete 0 0 1 1 0", "sign-in 0 0 1 1 0"},
		"mount":    {"files:ann 100 0 1 0 0", "files:shared/maps 0 40 1 0 0", "files:ben 8 0 3 1 1", " 0 0 1 1 0"},
		"file":     {"/a 100 0 1 0 0", "/maps/m 0 40 1 0 0", "/b 8 0 3 1 1"},
	} {
		a := h.ask(series.Query{By: by})
		var got []string
		for _, r := range a.Rows {
			got = append(got, fmt.Sprint(r.Value, " ", r.Up, " ", r.Down, " ", r.Done+r.Refused+r.Failed, " ", r.Refused, " ", r.Failed))
		}
		assert.Equal(t, want, got, by)
	}
	one := h.ask(series.Query{By: "mount", TrafficQuery: records.TrafficQuery{Group: "crews", Action: "download"}})
	require.Len(t, one.Rows, 1)
	assert.EqualValues(t, 40, one.Total.Down)
	assert.Len(t, h.ask(series.Query{By: "file", TrafficQuery: records.TrafficQuery{Mount: "files:shared/maps"}}).Rows, 1)
	_, err := h.book.Ask(t.Context(), series.Query{By: "colour"})
	assert.ErrorContains(t, err, "use account, group")
}

// A transfer counts in the hours in which it ran.
func TestALongTransferIsSpreadOverItsHours(t *testing.T) {
	h := newHouse(t)
	h.note(keep.AuditRecord{At: noon.Add(15 * time.Minute), Duration: 90 * time.Minute, Account: "ann", Action: keep.Uploading, Path: "/a", Bytes: 9_000_001})
	a := h.ask(series.Query{Step: "hour"})
	require.Len(t, a.Points, 24)
	assert.InDelta(t, 1_500_000, a.Points[10].Up, 2)
	assert.InDelta(t, 6_000_000, a.Points[11].Up, 2)
	assert.InDelta(t, 1_500_000, a.Points[12].Up, 2)
	assert.EqualValues(t, 9_000_001, a.Total.Up, "none is lost")
	assert.EqualValues(t, 1, a.Points[12].Done, "the operation itself counts where it ended")
}

func TestDaysBeginInTheZoneOfTheReader(t *testing.T) {
	h := newHouse(t)
	h.note(keep.AuditRecord{At: noon.Truncate(24 * time.Hour).Add(2 * time.Hour), Account: "ann", Action: keep.Uploading, Path: "/a", Bytes: 5})
	west, err := time.LoadLocation("America/Bogota") // five hours behind, all year
	require.NoError(t, err)
	q := series.Query{Step: "day", Zone: west, TrafficQuery: records.TrafficQuery{Since: noon.AddDate(0, 0, -2), Until: noon.AddDate(0, 0, 1)}}
	at := slices.IndexFunc(h.ask(q).Points, func(p series.Point) bool { return p.Up == 5 })
	assert.Equal(t, noon.AddDate(0, 0, -1).Format(time.DateOnly), h.ask(q).Points[at].At.Format(time.DateOnly))
	q.Since = noon.AddDate(-1, 0, 0)
	assert.EqualValues(t, 5, h.ask(q).Total.Up, "hours that were forgotten are still in their day")
}

// Whatever is asked agrees with adding up the records one by one, and adding up goes
// on where it was after an end without goodbye.
func TestSumsAgreeWithTheRecords(t *testing.T) {
	h := newHouse(t)
	random := rand.New(rand.NewPCG(6, 1))
	pick := func(of ...string) string { return of[random.IntN(len(of))] }
	up, down, count := map[string]int64{}, map[string]int64{}, map[string]int64{}
	for n := range 5000 {
		r := keep.AuditRecord{At: noon.Add(time.Duration(random.IntN(20)-10) * time.Hour), Account: pick("ann", "ben"), Address: pick("192.0.2.1", "192.0.2.2", "2001:db8::1"),
			Action: keep.Action(pick("upload", "download", "list")), Path: pick("/a", "/maps/m", "/b"), Protocol: keep.Protocol(pick("ftp", "ftps", "sftp")), Outcome: keep.Outcome(pick("done", "refused", "failed"))}
		count[r.Address]++
		switch r.Action {
		case keep.Uploading:
			r.Bytes = int64(random.IntN(1000))
			up[r.Address] += r.Bytes
		case keep.Downloading:
			r.Bytes = int64(random.IntN(1000))
			down[r.Address] += r.Bytes
		}
		h.trail.Note(r)
		if n%1700 == 0 {
			h.book.Close() // and another goes on
			h.start()
		}
	}
	require.Eventually(t, func() bool {
		last, err := h.db.LastAudit(context.Background())
		return err == nil && last.Seq == 5000
	}, 2*time.Minute, 10*time.Millisecond)
	for _, by := range []string{"address", "file"} {
		var a *series.Answer
		require.Eventually(t, func() bool { // a machine that is slow at the moment cuts an answer about files short
			a = h.ask(series.Query{By: by, Step: "hour"})
			return !a.Cut
		}, 2*time.Minute, 10*time.Millisecond)
		points, rows := int64(0), int64(0)
		for _, p := range a.Points {
			points += p.Up
		}
		for _, r := range a.Rows {
			rows += r.Up
			if by == "address" {
				assert.Equal(t, []int64{up[r.Value], down[r.Value], count[r.Value]}, []int64{r.Up, r.Down, r.Done + r.Refused + r.Failed}, r.Value)
			}
		}
		assert.Equal(t, a.Total.Up, points)
		assert.Equal(t, a.Total.Up, rows)
	}
}
