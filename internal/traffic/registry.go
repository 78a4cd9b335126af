package traffic

import (
	"crypto/rand"
	"sort"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/tree"
)

const (
	// keptTransfers is how many ended transfers stay in view.
	keptTransfers = 100
	// keptGone is how many ended sessions are remembered for readers that have
	// not heard of their end; one that is further behind starts anew.
	keptGone = 1024
)

// Registry holds the live sessions and their transfers.
type Registry struct {
	version atomic.Uint64 // grows with every change

	mu       sync.Mutex
	sessions map[string]*Session
	running  map[string]*transfer
	recent   []*transfer        // ended, oldest first
	gone     []tombstone        // ended sessions, oldest first
	shared   map[string]*shared // speed limits, by account
	lost     uint64             // readers that know less than this version start anew
}

type tombstone struct {
	id      string
	version uint64
}

// NewRegistry makes an empty registry.
func NewRegistry() *Registry {
	return &Registry{sessions: map[string]*Session{}, running: map[string]*transfer{}, shared: map[string]*shared{}}
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
	return s
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
	delete(r.sessions, s.info.ID)
	r.gone = append(r.gone, tombstone{s.info.ID, r.version.Add(1)})
	if len(r.gone) > keptGone {
		r.lost = r.gone[0].version
		r.gone = r.gone[1:]
	}
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
}

// Begin puts a transfer in view. It implements [tree.Watcher].
func (s *Session) Begin(t tree.Transfer) tree.Meter {
	s.Doing(t.Action, t.Path)
	r := s.r
	r.mu.Lock()
	defer r.mu.Unlock()
	version := r.version.Add(1)
	tr := &transfer{s: s, info: TransferInfo{ID: s.info.ID + "-" + strconv.FormatUint(version, 36), Session: s.info.ID, Account: s.info.Account,
		Address: s.info.Address, Protocol: s.info.Protocol, Encrypted: s.info.Encrypted, Action: t.Action, Path: t.Path,
		Offset: t.Offset, Total: t.Total, Started: time.Now().UTC()}}
	tr.version.Store(version)
	r.running[tr.info.ID] = tr
	return tr
}

// Moved counts bytes. It takes no lock.
func (t *transfer) Moved(bytes int) {
	t.moved.Add(int64(bytes))
	if t.info.Action == keep.Uploading {
		t.s.up.Add(int64(bytes))
	} else {
		t.s.down.Add(int64(bytes))
	}
	t.version.Store(t.s.r.version.Add(1))
}

// End moves the transfer to the ones that have ended.
func (t *transfer) End(outcome keep.Outcome, reason keep.Reason) {
	r := t.s.r
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.running, t.info.ID)
	t.info.Ended, t.info.Outcome, t.info.Reason = time.Now().UTC(), outcome, reason
	t.version.Store(r.version.Add(1))
	t.s.version, t.s.info.Active = t.version.Load(), t.info.Ended
	r.recent = append(r.recent, t)
	if len(r.recent) > keptTransfers {
		r.recent = r.recent[1:]
	}
}

// Changes is what is new since a version.
type Changes struct {
	Version   uint64         // ask with this one next
	Full      bool           // forget what you knew: this is everything
	Sessions  []SessionInfo  // new or changed, longest first
	Gone      []string       // sessions that have ended
	Transfers []TransferInfo // new, moved or ended, oldest first
}

// Since gives what changed since a version that an earlier call gave; 0 gives
// everything.
func (r *Registry) Since(version uint64) Changes {
	r.mu.Lock()
	defer r.mu.Unlock()
	c := Changes{Version: r.version.Load()}
	if version < r.lost || version > c.Version || version == 0 {
		c.Full, version = true, 0
	}
	for _, s := range r.sessions {
		if s.version > version {
			info := s.info
			info.Up, info.Down = s.up.Load(), s.down.Load()
			c.Sessions = append(c.Sessions, info)
		}
	}
	sort.Slice(c.Sessions, func(i, j int) bool { return c.Sessions[i].Since.Before(c.Sessions[j].Since) })
	for _, g := range r.gone {
		if g.version > version && !c.Full {
			c.Gone = append(c.Gone, g.id)
		}
	}
	add := func(t *transfer) {
		if t.version.Load() > version {
			info := t.info
			info.Bytes = t.moved.Load()
			c.Transfers = append(c.Transfers, info)
		}
	}
	for _, t := range r.recent {
		add(t)
	}
	for _, t := range r.running {
		add(t)
	}
	sort.Slice(c.Transfers, func(i, j int) bool { return c.Transfers[i].Started.Before(c.Transfers[j].Started) })
	return c
}

// Running gives the transfers that run now, oldest first.
func (r *Registry) Running() []TransferInfo {
	var running []TransferInfo
	for _, t := range r.Since(0).Transfers {
		if t.Outcome == "" {
			running = append(running, t)
		}
	}
	return running
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

// Counts is how much is going on.
func (r *Registry) Counts() (sessions, transfers int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.sessions), len(r.running)
}
