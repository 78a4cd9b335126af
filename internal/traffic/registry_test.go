package traffic_test

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/traffic"
	"urbankeep/internal/tree"
)

func open(r *traffic.Registry, id string) *traffic.Session {
	return r.Open(traffic.SessionInfo{ID: id, Account: "crew-" + id, Protocol: keep.SFTP}, func(*keep.Fault) {})
}

func TestAReaderHearsOnlyWhatChanged(t *testing.T) {
	r := traffic.NewRegistry()
	a, b := open(r, "a"), open(r, "b")
	first := r.Since(0)
	assert.True(t, first.Full)
	assert.Len(t, first.Sessions, 2)
	assert.Empty(t, r.Since(first.Version).Sessions)

	b.Doing(keep.Listing, "/scans")
	second := r.Since(first.Version)
	require.Len(t, second.Sessions, 1)
	assert.False(t, second.Full)
	assert.Equal(t, "/scans", second.Sessions[0].Path)

	meter := a.Begin(tree.Transfer{Action: keep.Uploading, Path: "/f", Total: 100})
	meter.Moved(40)
	third := r.Since(second.Version)
	require.Len(t, third.Transfers, 1)
	assert.EqualValues(t, 40, third.Transfers[0].Bytes)
	assert.Empty(t, third.Transfers[0].Outcome)
	assert.Len(t, r.Running(), 1)

	meter.Moved(60)
	meter.End(keep.Done, keep.NoReason)
	fourth := r.Since(third.Version)
	require.Len(t, fourth.Transfers, 1)
	assert.EqualValues(t, 100, fourth.Transfers[0].Bytes)
	assert.Equal(t, keep.Done, fourth.Transfers[0].Outcome)
	require.Len(t, fourth.Sessions, 1)
	assert.EqualValues(t, 100, fourth.Sessions[0].Up)
	assert.Empty(t, r.Running())

	a.Close()
	fifth := r.Since(fourth.Version)
	assert.Equal(t, []string{"a"}, fifth.Gone)
	assert.Empty(t, fifth.Sessions)
	sessions, transfers := r.Counts()
	assert.Equal(t, 1, sessions)
	assert.Zero(t, transfers)
}

func TestAReaderThatIsTooFarBehindStartsAnew(t *testing.T) {
	r := traffic.NewRegistry()
	old := open(r, "old")
	seen := r.Since(0).Version
	old.Close()
	stays := open(r, "stays")
	for n := range 1100 {
		open(r, fmt.Sprint(n)).Close()
	}
	c := r.Since(seen)
	assert.True(t, c.Full, "it can no longer be told which sessions have gone")
	require.Len(t, c.Sessions, 1)
	assert.Equal(t, "stays", c.Sessions[0].ID)
	assert.Empty(t, c.Gone)
	stays.Close()
	assert.False(t, r.Since(c.Version).Full)
	assert.True(t, r.Since(c.Version+1_000_000).Full, "a version from another run means nothing")
}

func TestOnlyTheNewestTransfersStayInView(t *testing.T) {
	r := traffic.NewRegistry()
	s := open(r, "a")
	for n := range 250 {
		m := s.Begin(tree.Transfer{Action: keep.Downloading, Path: fmt.Sprint("/", n)})
		m.Moved(1)
		m.End(keep.Done, keep.NoReason)
	}
	c := r.Since(0)
	assert.Len(t, c.Transfers, 100)
	assert.Equal(t, "/249", c.Transfers[99].Path)
	assert.EqualValues(t, 250, c.Sessions[0].Down)
}

func TestEndingASessionTellsItWhy(t *testing.T) {
	r := traffic.NewRegistry()
	var told *keep.Fault
	r.Open(traffic.SessionInfo{ID: "a", Account: "ann"}, func(why *keep.Fault) { told = why })
	assert.Equal(t, []string{"a"}, r.SessionsOf("ann"))
	assert.False(t, r.End("b", keep.Refuse(keep.EndedByOperator, "x")))
	assert.True(t, r.End("a", keep.Refuse(keep.EndedByOperator, "ended")))
	assert.Equal(t, "ended", told.Say)
}

// TestReadersAndWritersTogether is for the race detector; its readers put
// together from changes what a full reading gives.
func TestReadersAndWritersTogether(t *testing.T) {
	r := traffic.NewRegistry()
	done := make(chan struct{})
	var writing, reading sync.WaitGroup
	for w := range 4 {
		writing.Go(func() {
			for n := range 200 {
				s := open(r, fmt.Sprintf("%d-%d", w, n))
				m := s.Begin(tree.Transfer{Action: keep.Uploading, Path: "/f"})
				for range 10 {
					m.Moved(7)
				}
				m.End(keep.Done, keep.NoReason)
				if n%4 != 0 {
					s.Close()
				}
			}
		})
	}
	for range 2 {
		reading.Go(func() {
			known, version := map[string]bool{}, uint64(0)
			for last := false; ; {
				c := r.Since(version)
				version = c.Version
				if c.Full {
					clear(known)
				}
				for _, id := range c.Gone {
					delete(known, id)
				}
				for _, s := range c.Sessions {
					known[s.ID] = true
				}
				if last {
					break
				}
				select {
				case <-done:
					last = true
				default:
				}
			}
			assert.Len(t, known, len(r.Since(0).Sessions))
		})
	}
	writing.Wait()
	close(done)
	reading.Wait()
	assert.Len(t, r.Since(0).Sessions, 4*50)
}
