package traffic_test

import (
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/watch/traffic"
)

// paced runs sessions of one account that upload in pieces of different sizes, and
// gives how much each got.
func paced(r *traffic.Registry, speeds traffic.Speeds, pieces []int, for_ time.Duration) []int64 {
	got := make([]int64, len(pieces))
	var running sync.WaitGroup
	end := time.Now().Add(for_)
	for i, piece := range pieces {
		running.Go(func() {
			s := r.Open(traffic.SessionInfo{ID: traffic.NewID(), Account: "ann"}, func(*keep.Fault) {})
			defer s.Close()
			s.Limit(speeds)
			meter := s.Begin(tree.Transfer{Action: keep.Uploading, Path: "/f"})
			started := time.Now()
			for time.Now().Before(end) {
				meter.Pace(piece)
				got[i] += int64(piece)
			}
			got[i] = int64(float64(got[i]) * for_.Seconds() / time.Since(started).Seconds()) // the last wait may end late
			meter.End(keep.Done, keep.NoReason)
		})
	}
	running.Wait()
	return got
}

func TestSessionsShareASpeedWhateverTheirPieces(t *testing.T) {
	for name, busy := range map[string]int{"with nothing else to do": 0, "on a busy machine": 6 * runtime.GOMAXPROCS(0)} {
		t.Run(name, func(t *testing.T) {
			var stop atomic.Bool
			defer stop.Store(true)
			for range busy {
				go func() {
					for !stop.Load() {
					}
				}()
			}
			const limit = 4 << 20
			got := paced(registry(t), traffic.Speeds{Up: limit}, []int{256 << 10, 32 << 10, 30_000}, 2*time.Second)
			total := got[0] + got[1] + got[2]
			assert.InEpsilon(t, 2*limit, total, 0.15)
			for _, one := range got {
				assert.InEpsilon(t, total/3, one, 0.15, "%v", got)
			}
		})
	}
}

func TestASessionsOwnSpeedHoldsBesideItsAccounts(t *testing.T) {
	r := registry(t)
	got := paced(r, traffic.Speeds{Up: 4 << 20, SessionUp: 1 << 20}, []int{32 << 10, 32 << 10}, 2*time.Second)
	for _, one := range got {
		assert.InEpsilon(t, 2<<20, one, 0.15)
	}
	got = paced(r, traffic.Speeds{Down: 1}, []int{1 << 20}, 50*time.Millisecond)
	assert.Greater(t, got[0], int64(1<<20), "the other direction is free")
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
