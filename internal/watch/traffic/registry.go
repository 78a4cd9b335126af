package traffic

import (
	"crypto/rand"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

const (
	// keptTransfers is how many ended transfers stay in view.
	keptTransfers = 100
)

// Registry holds the live sessions and their transfers.
type Registry struct {
	version atomic.Uint64 // grows with every change
	up      atomic.Int64  // bytes, since the start
	down    atomic.Int64
	done    atomic.Int64 // operations, since the start

	mu       sync.Mutex
	sessions map[string]*Session
	from     map[string]int // sessions, by address
	own      map[string]int // sessions, by account, but for those that came with a pass
	running  map[string]*transfer
	moving   map[string]int              // running transfers, by account
	most     func() (all, ofAccount int) // how many there may be
	recent   []*transfer                 // ended, oldest first
	shared   map[string]*shared          // speed limits, by account
	beats    []Beat                      // of the last seconds, oldest first

	stop chan struct{}
	over sync.WaitGroup
}

// NewRegistry makes an empty registry; Close ends it.
func NewRegistry() *Registry {
	r := &Registry{sessions: map[string]*Session{}, from: map[string]int{}, own: map[string]int{}, running: map[string]*transfer{}, moving: map[string]int{}, shared: map[string]*shared{}, stop: make(chan struct{})}
	r.over.Go(r.measure)
	return r
}

// Close ends the measuring.
func (r *Registry) Close() {
	close(r.stop)
	r.over.Wait()
}

// Session is one signed-in connection. It is the [tree.Watcher] of its tree.
type Session struct {
	r       *Registry
	info    SessionInfo // guarded by r.mu, but for ID and Account
	version uint64      // guarded by r.mu
	end     func(*keep.Fault)
	up      atomic.Int64
	down    atomic.Int64
	limited bool          // guarded by r.mu
	over    chan struct{} // closed when the session is to end
	ended   sync.Once

	paceUp, paceDown atomic.Pointer[paces] // nil: any speed
}

// SessionInfo is a session as it stands.
type SessionInfo struct {
	ID        string
	Account   string
	Address   string
	Protocol  keep.Protocol
	Encrypted bool
	Cipher    string // TLS or SSH suite, "" in clear
	Client    string // software as it names itself
	Since     time.Time
	Active    time.Time   // last thing it did
	Doing     keep.Action // what that was
	Path      string
	Up, Down  int64 // bytes moved by ended and running transfers
}

// TransferInfo is a transfer as it stands.
type TransferInfo struct {
	ID        string
	Session   string
	Account   string
	Address   string
	Protocol  keep.Protocol
	Encrypted bool
	Action    keep.Action
	Path      string
	Offset    int64
	Total     int64 // -1: unknown
	Bytes     int64
	Rate      int64 // bytes per second, lately; of one that has ended, on average
	Started   time.Time
	Ended     time.Time    // zero: it runs
	Outcome   keep.Outcome // "": it runs
	Reason    keep.Reason
}

// NewID makes a name for a session: time-free, unguessable, short enough to read out.
func NewID() string { return rand.Text()[:12] }

// Open registers a session. end is called, at most from Registry.End, to close
// its connection; it must not wait for the session to be gone.
func (r *Registry) Open(info SessionInfo, end func(*keep.Fault)) *Session {
	info.Since = time.Now().UTC()
	info.Active = info.Since
	info.Doing = keep.SignIn
	s := &Session{r: r, info: info, end: end, over: make(chan struct{})}
	r.mu.Lock()
	defer r.mu.Unlock()
	s.version = r.version.Add(1)
	r.sessions[info.ID] = s
	r.count(s, 1)
	return s
}

// Most says how many transfers may run at once, in all and of one account.
func (r *Registry) Most(most func() (all, ofAccount int)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.most = most
}

// Room refuses a transfer where as many run as may.
func (s *Session) Room() error {
	r := s.r
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.most == nil {
		return nil
	}
	all, ofAccount := r.most()
	switch {
	case r.moving[s.info.Account] >= ofAccount:
		return keep.Refuse(keep.TooManySessions, fmt.Sprintf("the account has as many files open as it may, %d: close one first", ofAccount))
	case len(r.running) >= all:
		return keep.Refuse(keep.TooManySessions, "the service moves as many files as it may: try again later")
	}
	return nil
}

// From counts the live sessions, all of them and those of one address.
func (r *Registry) From(address string) (all, from int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.sessions), r.from[address]
}

// count notes that a session is there, or is gone. The caller holds mu.
func (r *Registry) count(s *Session, by int) {
	note := func(in map[string]int, name string) {
		if in[name] += by; in[name] == 0 {
			delete(in, name)
		}
	}
	note(r.from, s.info.Address)
	if s.info.Protocol != keep.ByPass {
		note(r.own, s.info.Account)
	}
}

// ID is the session's name.
func (s *Session) ID() string { return s.info.ID }

// Close takes the session out of view.
func (s *Session) Close() {
	s.Hurry()
	r := s.r
	r.mu.Lock()
	defer r.mu.Unlock()
	s.unlimit()
	if r.sessions[s.info.ID] == s {
		delete(r.sessions, s.info.ID)
		r.count(s, -1)
	}
	r.version.Add(1)
}

// Hurry ends every wait for a speed limit: the session is to end.
func (s *Session) Hurry() { s.ended.Do(func() { close(s.over) }) }

// Secured notes that the session's connection is encrypted now.
func (s *Session) Secured(cipher string) {
	s.change(func(info *SessionInfo) { info.Encrypted, info.Cipher = true, cipher })
}

// Named notes what software the client says it is.
func (s *Session) Named(client string) { s.change(func(info *SessionInfo) { info.Client = client }) }

// Doing notes what the session does. It implements [tree.Watcher].
func (s *Session) Doing(action keep.Action, path string) {
	s.r.done.Add(1)
	s.change(func(info *SessionInfo) { info.Doing, info.Path = action, path })
}

func (s *Session) change(do func(*SessionInfo)) {
	s.r.mu.Lock()
	defer s.r.mu.Unlock()
	do(&s.info)
	s.info.Active = time.Now().UTC()
	s.version = s.r.version.Add(1)
}

// transfer implements [tree.Meter].
type transfer struct {
	s       *Session
	info    TransferInfo // guarded by s.r.mu
	moved   atomic.Int64
	version atomic.Uint64
	stop    func(*keep.Fault)

	measured int64   // bytes at the last measuring; guarded by s.r.mu
	rate     float64 // bytes per second; guarded by s.r.mu
}

// Begin puts a transfer in view. It implements [tree.Watcher].
func (s *Session) Begin(t tree.Transfer) tree.Meter {
	s.Doing(t.Action, t.Path)
	r := s.r
	r.mu.Lock()
	defer r.mu.Unlock()
	version := r.version.Add(1)
	tr := &transfer{s: s, stop: t.Stop, info: TransferInfo{ID: s.info.ID + "-" + strconv.FormatUint(version, 36), Session: s.info.ID, Account: s.info.Account,
		Address: s.info.Address, Protocol: s.info.Protocol, Encrypted: s.info.Encrypted, Action: t.Action, Path: t.Path,
		Offset: t.Offset, Total: t.Total, Started: time.Now().UTC()}}
	tr.version.Store(version)
	r.running[tr.info.ID] = tr
	r.moving[s.info.Account]++
	return tr
}

// Reserve lets everything move: how fast is said by Chunk and Pace.
func (t *transfer) Reserve(bytes int64, _ bool) (int64, error) { return bytes, nil }

// Release has nothing to give back.
func (t *transfer) Release(int64) {}

// Moved counts bytes. It takes no lock.
func (t *transfer) Moved(bytes int) {
	t.moved.Add(int64(bytes))
	r := t.s.r
	if t.info.Action == keep.Uploading {
		t.s.up.Add(int64(bytes))
		r.up.Add(int64(bytes))
	} else {
		t.s.down.Add(int64(bytes))
		r.down.Add(int64(bytes))
	}
	t.version.Store(r.version.Add(1))
}

// End moves the transfer to the ones that have ended.
func (t *transfer) End(outcome keep.Outcome, reason keep.Reason) {
	r := t.s.r
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.running, t.info.ID)
	if r.moving[t.info.Account]--; r.moving[t.info.Account] <= 0 {
		delete(r.moving, t.info.Account)
	}
	t.info.Ended, t.info.Outcome, t.info.Reason = time.Now().UTC(), outcome, reason
	t.version.Store(r.version.Add(1))
	t.s.version, t.s.info.Active = t.version.Load(), t.info.Ended
	r.recent = append(r.recent, t)
	if len(r.recent) > keptTransfers {
		r.recent = r.recent[1:]
	}
}

// Sessions gives the live sessions, longest first.
func (r *Registry) Sessions() []SessionInfo {
	r.mu.Lock()
	defer r.mu.Unlock()
	found := make([]SessionInfo, 0, len(r.sessions))
	for _, s := range r.sessions {
		found = append(found, s.now())
	}
	slices.SortFunc(found, func(a, b SessionInfo) int { return a.Since.Compare(b.Since) })
	return found
}

// Running gives the transfers that run now, oldest first.
func (r *Registry) Running() []TransferInfo {
	r.mu.Lock()
	defer r.mu.Unlock()
	found := make([]TransferInfo, 0, len(r.running))
	for _, t := range r.running {
		found = append(found, t.now())
	}
	slices.SortFunc(found, func(a, b TransferInfo) int { return a.Started.Compare(b.Started) })
	return found
}

// now is the session as it stands. The caller holds r.mu.
func (s *Session) now() SessionInfo {
	info := s.info
	info.Up, info.Down = s.up.Load(), s.down.Load()
	return info
}

// now is the transfer as it stands. The caller holds r.mu.
func (t *transfer) now() TransferInfo {
	info := t.info
	info.Bytes = t.moved.Load()
	if info.Rate = int64(t.rate); !info.Ended.IsZero() {
		info.Rate = int64(float64(info.Bytes) / max(info.Ended.Sub(info.Started).Seconds(), 0.001))
	}
	return info
}

// Left is how long a running transfer will take at the rate it has; below 0 where
// that can't be known.
func (t *TransferInfo) Left() time.Duration {
	rest := t.Total - t.Offset - t.Bytes
	if t.Total <= 0 || t.Rate <= 0 || rest < 0 || t.Outcome != "" {
		return -1
	}
	return time.Duration(float64(rest) / float64(t.Rate) * float64(time.Second))
}

// End closes a session's connection for a reason; false when it is not there.
func (r *Registry) End(id string, why *keep.Fault) bool {
	r.mu.Lock()
	s := r.sessions[id]
	r.mu.Unlock()
	if s != nil {
		s.end(why)
	}
	return s != nil
}

// EndTransfer ends a running transfer for a reason, and leaves its session alone;
// false when it is not there.
func (r *Registry) EndTransfer(id string, why *keep.Fault) (TransferInfo, bool) {
	r.mu.Lock()
	t := r.running[id]
	if t == nil {
		r.mu.Unlock()
		return TransferInfo{}, false
	}
	info := t.now()
	r.mu.Unlock()
	t.stop(why)
	return info, true
}

// EndTransfers ends what a session moves, for a reason: it is to end.
func (s *Session) EndTransfers(why *keep.Fault) {
	s.r.mu.Lock()
	var running []*transfer
	for _, t := range s.r.running {
		if t.s == s {
			running = append(running, t)
		}
	}
	s.r.mu.Unlock()
	for _, t := range running {
		t.stop(why)
	}
}

// SessionsOf names the live sessions of an account.
func (r *Registry) SessionsOf(account string) []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	var ids []string
	for id, s := range r.sessions {
		if s.info.Account == account {
			ids = append(ids, id)
		}
	}
	return ids
}

// Own counts the live sessions of an account, but those that others have with a pass.
func (r *Registry) Own(account string) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.own[account]
}

// Moved is how many bytes were moved since the start.
func (r *Registry) Moved() (up, down int64) { return r.up.Load(), r.down.Load() }

// Counts is how much is going on.
func (r *Registry) Counts() (sessions, transfers int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.sessions), len(r.running)
}
