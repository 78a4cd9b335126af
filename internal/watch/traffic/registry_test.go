package traffic_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/watch/traffic"
)

func open(r *traffic.Registry, id string) *traffic.Session {
	return r.Open(traffic.SessionInfo{ID: id, Account: "crew-" + id, Protocol: keep.SFTP}, func(*keep.Fault) {})
}

func registry(t *testing.T) *traffic.Registry {
	r := traffic.NewRegistry()
	t.Cleanup(r.Close)
	return r
}

// roomy is more than any message of these tests needs, bytes.
const roomy = 1 << 20

func TestAReaderHearsOnlyWhatChanged(t *testing.T) {
	r := registry(t)
	reader := r.Reader()
	a, b := open(r, "a"), open(r, "b")
	first := reader.Next(roomy)
	assert.True(t, first.Full)
	assert.Len(t, first.Sessions, 2)
	next := reader.Next(roomy)
	assert.True(t, next.Empty())

	b.Doing(keep.Listing, "/scans")
	next = reader.Next(roomy)
	assert.False(t, next.Full)
	assert.Empty(t, next.Sessions)
	require.Len(t, next.Moves, 1)
	assert.Equal(t, "/scans", next.Moves[0].Path)

	meter := a.Begin(tree.Transfer{Action: keep.Uploading, Path: "/f", Total: 100})
	meter.Moved(40)
	next = reader.Next(roomy)
	require.Len(t, next.Transfers, 1)
	assert.EqualValues(t, 40, next.Transfers[0].Bytes)
	assert.Empty(t, next.Transfers[0].Outcome)
	assert.Len(t, r.Running(), 1)
	meter.Moved(20)
	next = reader.Next(roomy)
	assert.Empty(t, next.Transfers)
	require.Len(t, next.Progress, 1)
	assert.EqualValues(t, 60, next.Progress[0].Bytes)

	meter.Moved(40)
	meter.End(keep.Done, keep.NoReason)
	next = reader.Next(roomy)
	require.Len(t, next.Transfers, 1)
	assert.EqualValues(t, 100, next.Transfers[0].Bytes)
	assert.Equal(t, keep.Done, next.Transfers[0].Outcome)
	require.Len(t, next.Moves, 1)
	assert.EqualValues(t, 100, next.Moves[0].Up)
	assert.Empty(t, r.Running())

	open(r, "short").Close()
	a.Close()
	next = reader.Next(roomy)
	assert.Equal(t, []string{"a"}, next.Gone, "and nothing of who came and went in between")
	assert.Empty(t, next.Sessions)
	sessions, transfers := r.Counts()
	assert.Equal(t, 1, sessions)
	assert.Zero(t, transfers)
}

// However much goes on, a message stays small, and each session is heard of again
// before any is heard of a third time.
func TestMessagesStaySmallAndLeaveNothingBehind(t *testing.T) {
	r := registry(t)
	reader := r.Reader()
	reader.Next(roomy)
	sessions := make([]*traffic.Session, 1000)
	for n := range sessions {
		sessions[n] = open(r, fmt.Sprint(n))
	}
	known, heard := map[string]bool{}, map[string]int{}
	for range 150 {
		for _, s := range sessions {
			s.Doing(keep.Listing, "/scans")
		}
		c := reader.Next(10_000)
		assert.LessOrEqual(t, len(c.Sessions)*350+len(c.Moves)*110, 10_000+400)
		for _, s := range c.Sessions {
			known[s.ID] = true
		}
		for _, s := range c.Moves {
			heard[s.ID]++
		}
	}
	assert.Len(t, known, len(sessions))
	least, most := len(sessions), 0
	for _, s := range sessions {
		least, most = min(least, heard[s.ID()]), max(most, heard[s.ID()])
	}
	assert.GreaterOrEqual(t, least, 5)
	assert.LessOrEqual(t, most-least, 3)
}

func TestOnlyTheNewestTransfersStayInView(t *testing.T) {
	r := registry(t)
	s := open(r, "a")
	reader := r.Reader()
	reader.Next(roomy)
	for n := range 250 {
		m := s.Begin(tree.Transfer{Action: keep.Downloading, Path: fmt.Sprint("/", n)})
		m.Moved(1)
		m.End(keep.Done, keep.NoReason)
	}
	few := reader.Next(4000)
	assert.Less(t, len(few.Transfers), 10, "a message is short even then")
	c := r.Reader().Next(roomy)
	assert.Len(t, c.Transfers, 100)
	assert.Equal(t, "/249", c.Transfers[99].Path)
	assert.EqualValues(t, 250, c.Sessions[0].Down)
}

func TestATransferIsEndedAndItsRateIsKnown(t *testing.T) {
	r := registry(t)
	var told *keep.Fault
	m := open(r, "a").Begin(tree.Transfer{Action: keep.Uploading, Path: "/f", Total: 1 << 40, Stop: func(why *keep.Fault) { told = why }})
	require.Eventually(t, func() bool {
		m.Moved(1000)
		running := r.Running()[0]
		return running.Rate > 0 && running.Left() > 0
	}, 2*time.Minute, 10*time.Millisecond)
	assert.Positive(t, r.Beats()[len(r.Beats())-1].Up)
	_, ok := r.EndTransfer("nothing", keep.Refuse(keep.EndedByOperator, "x"))
	assert.False(t, ok)
	_, ok = r.EndTransfer(r.Running()[0].ID, keep.Refuse(keep.EndedByOperator, "enough"))
	assert.True(t, ok)
	assert.Equal(t, "enough", told.Say)
}

func TestEndingASessionTellsItWhy(t *testing.T) {
	r := registry(t)
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
	r := registry(t)
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
			known, reader := map[string]bool{}, r.Reader()
			for last := false; ; {
				c := reader.Next(roomy)
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
			assert.Len(t, known, len(r.Sessions()))
		})
	}
	writing.Wait()
	close(done)
	reading.Wait()
	assert.Len(t, r.Sessions(), 4*50)
}

func TestSessionsAreCountedByAddressAndAccount(t *testing.T) {
	r := registry(t)
	come := func(account, address string, protocol keep.Protocol) *traffic.Session {
		return r.Open(traffic.SessionInfo{ID: traffic.NewID(), Account: account, Address: address, Protocol: protocol}, func(*keep.Fault) {})
	}
	first := come("ann", "192.0.2.1", keep.SFTP)
	come("ann", "192.0.2.2", keep.FTPS)
	come("ann", "192.0.2.2", keep.ByPass)
	come("ben", "192.0.2.2", keep.SFTP)
	all, from := r.From("192.0.2.2")
	assert.Equal(t, []int{4, 3, 2, 1, 0}, []int{all, from, r.Own("ann"), r.Own("ben"), r.Own("eve")})
	first.Close()
	first.Close()
	all, from = r.From("192.0.2.1")
	assert.Equal(t, []int{3, 0, 1}, []int{all, from, r.Own("ann")})
}
