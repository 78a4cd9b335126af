package exchange

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// Uploads keeps what is known of uploads that are not whole yet.
type Uploads interface {
	// Uploads are those that whoever stays began; Upload is one of them.
	Uploads(ctx context.Context) ([]keep.PartialUpload, error)
	Upload(ctx context.Context, id string) (keep.PartialUpload, error)
	// SaveUpload keeps one, new or changed.
	SaveUpload(ctx context.Context, u keep.PartialUpload, new bool) error
	// DropUpload forgets one, and removes what has come of it.
	DropUpload(ctx context.Context, u keep.PartialUpload) error
}

// Stay is somebody who is in, with one client.
type Stay struct {
	Address string
	Client  string // what the browser calls itself
	Since   time.Time
	Until   time.Time // it ends then at the latest
	Tree    *tree.Tree
	Uploads Uploads
	Idle    func() time.Duration  // how long nothing need be asked
	Leave   func(why *keep.Fault) // is called once, when it has ended; why is nil for a plain goodbye
	Stalled func() error          // why it ends when nothing is asked for too long; nil: the usual

	ctx    context.Context // ends with the stay
	cancel context.CancelCauseFunc
	mu     sync.Mutex
	busy   int // requests that are being answered
	timer  *time.Timer
	over   bool
}

// Arrive begins a stay of whoever a request comes from. It is over with Cancel until [Stay.Settle] was called.
func Arrive(r *http.Request) *Stay {
	name := r.UserAgent()
	one := &Stay{Address: AddressOf(r), Client: name[:min(len(name), maxClient)], Since: time.Now()}
	one.ctx, one.cancel = context.WithCancelCause(context.Background())
	return one
}

// maxClient bounds what a client may call itself, bytes.
const maxClient = 200

// AddressOf is where a request comes from.
func AddressOf(r *http.Request) string {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return at.Addr().Unmap().WithZone("").String()
}

// Base is the stay itself, for what embeds it.
func (one *Stay) Base() *Stay { return one }

// Context ends with the stay; its cause may be a [keep.Fault].
func (one *Stay) Context() context.Context { return one.ctx }

// Cancel ends it. A nil cause says that nothing was begun.
func (one *Stay) Cancel(why error) { one.cancel(why) }

// Settle has it end when nothing is asked for too long.
func (one *Stay) Settle() {
	one.timer = time.AfterFunc(min(one.Idle(), time.Until(one.Until)), func() {
		why := error(keep.Refuse(keep.Stalled, "nothing was asked for too long"))
		if one.Stalled != nil {
			why = one.Stalled()
		}
		one.cancel(why)
	})
}

// Stays are all who are in. What one address or account may have open is not theirs to say.
type Stays[T interface{ Base() *Stay }] struct {
	mu sync.Mutex
	by map[[sha256.Size]byte]T // by the digest of the secret that they show
	wg sync.WaitGroup
}

func digest(secret keep.Secret) [sha256.Size]byte { return sha256.Sum256([]byte(secret.Reveal())) }

// Begin lets somebody in under a new secret.
func (s *Stays[T]) Begin(one T) keep.Secret {
	secret := keep.Secret(rand.Text())
	s.Keep(one, secret)
	return secret
}

// Keep lets somebody in under a secret. Who is in under it already is given instead.
func (s *Stays[T]) Keep(one T, secret keep.Secret) T {
	key := digest(secret)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by == nil {
		s.by = map[[sha256.Size]byte]T{}
	}
	if there, is := s.by[key]; is && there.Base().ctx.Err() == nil {
		return there
	}
	s.by[key] = one
	s.wg.Add(1)
	go func() {
		defer s.wg.Done()
		base := one.Base()
		<-base.ctx.Done()
		s.mu.Lock()
		if now, is := s.by[key]; is && now.Base() == base {
			delete(s.by, key)
		}
		s.mu.Unlock()
		base.End()
	}()
	return one
}

// Enter finds who a secret stands for, and keeps them from being sent away for idleness until leave.
func (s *Stays[T]) Enter(secret keep.Secret, address string) (one T, leave func(), known bool) {
	s.mu.Lock()
	one, known = s.by[digest(secret)]
	s.mu.Unlock()
	// Rights may depend on the network: who comes from elsewhere signs in there.
	if !known || one.Base().Address != address || !one.Base().take() {
		var nobody T
		return nobody, nil, false
	}
	return one, one.Base().leave, true
}

// All gives those that are in, by a short form of the digest of their secrets.
func (s *Stays[T]) All() map[string]T {
	s.mu.Lock()
	defer s.mu.Unlock()
	found := map[string]T{}
	for key, one := range s.by {
		found[hex.EncodeToString(key[:8])] = one
	}
	return found
}

// Hold keeps whoever is in from being sent away for idleness until leave.
func (one *Stay) Hold() (leave func(), in bool) { return one.leave, one.take() }

func (one *Stay) take() bool {
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.over || one.ctx.Err() != nil || time.Now().After(one.Until) {
		return false
	}
	one.busy++
	one.timer.Stop()
	return true
}

func (one *Stay) leave() {
	one.mu.Lock()
	defer one.mu.Unlock()
	one.busy--
	if one.over && one.busy == 0 {
		one.close()
	} else if one.busy == 0 {
		one.timer.Reset(min(one.Idle(), time.Until(one.Until)))
	}
}

// End closes the tree when nothing is being answered any more.
func (one *Stay) End() {
	one.mu.Lock()
	defer one.mu.Unlock()
	one.over = true
	one.timer.Stop()
	if one.busy == 0 {
		one.close()
	}
}

func (one *Stay) close() {
	one.Tree.Close()
	var why *keep.Fault
	if cause, ok := context.Cause(one.ctx).(*keep.Fault); ok {
		why = cause
	}
	one.Leave(why)
}

// Goodbye is the end that somebody asks for.
type Goodbye struct{}

func (Goodbye) Error() string { return "signed out" }

// EndAll ends every stay, and waits until what was being answered has ended too.
func (s *Stays[T]) EndAll(why *keep.Fault) {
	s.mu.Lock()
	for _, one := range s.by {
		one.Base().cancel(why)
	}
	s.mu.Unlock()
	s.wg.Wait()
}
