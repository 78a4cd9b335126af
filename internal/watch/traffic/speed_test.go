package traffic_test

import (
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/watch/traffic"
)

// paced runs sessions of one account that upload in pieces of different sizes for ten seconds, each held up now and then, and
// gives how much each got. Time is that of a bubble: no machine is too slow for it.
func paced(t *testing.T, speeds traffic.Speeds, pieces []int, heldUp ...time.Duration) (got []int64) {
	got = make([]int64, len(pieces))
	synctest.Test(t, func(t *testing.T) {
		r := registry(t)
		var running sync.WaitGroup
		defer running.Wait()
		for i, piece := range pieces {
			running.Go(func() {
				s := r.Open(traffic.SessionInfo{ID: traffic.NewID(), Account: "ann"}, func(*keep.Fault) {})
				defer s.Close()
				s.Limit(speeds)
				meter := s.Begin(tree.Transfer{Action: keep.Uploading, Path: "/f"})
				defer meter.End(keep.Done, keep.NoReason)
				began := time.Now()
				for last := began; time.Since(began) < lasts; {
					if meter.Pace(piece); time.Since(began) < lasts {
						got[i] += int64(piece)
					}
					if time.Since(last) > time.Duration(250+50*i)*time.Millisecond {
						time.Sleep(heldUp[i])
						last = time.Now()
					}
				}
			})
		}
	})
	return got
}

// lasts is how long sessions are paced; a quarter of a second's bytes may come on top.
const lasts = 10 * time.Second

func TestSessionsShareASpeedWhateverTheirPieces(t *testing.T) {
	for _, heldUp := range []time.Duration{0, 100 * time.Millisecond, 200 * time.Millisecond} {
		const limit = 4 << 20
		got := paced(t, traffic.Speeds{Up: limit}, []int{256 << 10, 32 << 10, 30_000}, heldUp, heldUp, heldUp)
		total := got[0] + got[1] + got[2]
		assert.InEpsilon(t, limit*lasts.Seconds(), total, 0.03, "%v %v", heldUp, got)
		for _, one := range got {
			assert.InEpsilon(t, total/3, one, 0.03, "%v %v", heldUp, got)
		}
	}
}

// What one doesn't use is for the others.
func TestASlowSessionLeavesTheRestToTheOthers(t *testing.T) {
	const limit = 4 << 20
	got := paced(t, traffic.Speeds{Up: limit}, []int{32 << 10, 32 << 10}, 2*time.Second, 0)
	assert.InEpsilon(t, limit*lasts.Seconds(), got[0]+got[1], 0.05)
	assert.Less(t, got[0], got[1]/3, "%v", got)
}

func TestASessionsOwnSpeedHoldsBesideItsAccounts(t *testing.T) {
	for _, one := range paced(t, traffic.Speeds{Up: 4 << 20, SessionUp: 1 << 20}, []int{32 << 10, 32 << 10}, 0, 0) {
		assert.InEpsilon(t, lasts.Seconds()*(1<<20), one, 0.03)
	}
	for _, one := range paced(t, traffic.Speeds{Up: 1 << 20, SessionUp: 4 << 20}, []int{32 << 10, 32 << 10}, 0, 0) {
		assert.InEpsilon(t, lasts.Seconds()*(1<<20)/2, one, 0.03)
	}
}

func TestTheOtherDirectionIsFree(t *testing.T) {
	r := registry(t)
	s := r.Open(traffic.SessionInfo{ID: "S", Account: "ann"}, func(*keep.Fault) {})
	s.Limit(traffic.Speeds{Down: 1})
	assert.Zero(t, s.Begin(tree.Transfer{Action: keep.Uploading}).Chunk())
}

// Who waits for a speed limit does not wait for a session that is over.
func TestAnEndedSessionWaitsForNoSpeedLimit(t *testing.T) {
	r := registry(t)
	s := r.Open(traffic.SessionInfo{ID: "S", Account: "ann"}, func(*keep.Fault) {})
	s.Limit(traffic.Speeds{Up: 1, SessionDown: 1})
	up, down := s.Begin(tree.Transfer{Action: keep.Uploading}), s.Begin(tree.Transfer{Action: keep.Downloading})
	assert.NotZero(t, up.Chunk())
	done := make(chan struct{})
	go func() {
		up.Pace(1 << 20) // would take twelve days
		down.Pace(1 << 20)
		close(done)
	}()
	time.Sleep(20 * time.Millisecond)
	s.Hurry()
	select {
	case <-done:
	case <-time.After(2 * time.Minute):
		t.Fatal("it waits on")
	}
	s.Close()
	assert.Zero(t, func() int { a, _ := r.Counts(); return a }())
}

func TestALimitThatIsTakenAwayLetsEverybodyGo(t *testing.T) {
	r := registry(t)
	s := r.Open(traffic.SessionInfo{ID: "S", Account: "ann"}, func(*keep.Fault) {})
	defer s.Close()
	s.Limit(traffic.Speeds{Up: 64 << 10})
	meter := s.Begin(tree.Transfer{Action: keep.Uploading})
	time.AfterFunc(50*time.Millisecond, func() { s.Limit(traffic.Speeds{}) })
	started := time.Now()
	meter.Pace(10 << 20) // would take three minutes
	assert.Less(t, time.Since(started), 10*time.Second)
	assert.Zero(t, meter.Chunk())
}
