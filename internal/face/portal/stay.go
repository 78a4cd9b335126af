package portal

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"sync"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

const (
	// stayIdle is how long a holder may do nothing, unless the account says less.
	stayIdle = 30 * time.Minute
	// maxLooks bounds the pictures that are read for one sign-in at once: each takes its bytes on the disk meanwhile.
	maxLooks = 2
	// scriptIdle is how long what a token opened is kept for its next request.
	scriptIdle = time.Minute
	// stayLife is how long a sign-in lasts at the most.
	stayLife = 12 * time.Hour
)

// Keeper lets account holders in.
type Keeper interface {
	// Arrive opens the visit of somebody. cut ends what is signed in from outside.
	Arrive(address string, encrypted bool, cut func(*keep.Fault)) Visit
	// NewCodes makes the secret of one-time codes; nothing is kept of it.
	NewCodes(ctx context.Context, account string) (api.Codes, error)
}

// Site is where a browser has the portal: passkeys work under one name only.
type Site struct {
	Origin string // as in https://files.example
	Host   string // files.example
}

// SignIn is what a holder shows.
type SignIn struct {
	Account   string
	Password  keep.Secret
	Code      string      // of the second factor; "": none
	NewSecret keep.Secret // of one-time codes that are set up with this, of which Code is the first
}

// Visit is one sign-in as the house sees it.
type Visit interface {
	// SignIn opens the account's tree. The error is a [keep.Fault].
	SignIn(ctx context.Context, ask SignIn) (opened *tree.Tree, recovery []keep.Secret, err error)
	// ByToken opens the tree of the account that a token stands for, and says until when it does.
	ByToken(ctx context.Context, token keep.Secret) (opened *tree.Tree, until time.Time, err error)
	// AskPasskey begins a sign-in by passkey, for a browser at a site; ByPasskey ends it.
	AskPasskey(ctx context.Context, at Site) (api.PasskeyAsk, error)
	ByPasskey(ctx context.Context, at Site, id string, response []byte) (*tree.Tree, error)
	// ChangePassword gives an account that must change its password another.
	ChangePassword(ctx context.Context, account string, old, wanted keep.Secret) error
	// Named says what software the client claims to be.
	Named(client string)
	// Uploads are those of the account that are not whole yet; Upload is one of them.
	Uploads(ctx context.Context) ([]keep.PartialUpload, error)
	Upload(ctx context.Context, id string) (keep.PartialUpload, error)
	// SaveUpload keeps one, new or changed.
	SaveUpload(ctx context.Context, u keep.PartialUpload, new bool) error
	// DropUpload forgets one, and removes what has come of it.
	DropUpload(ctx context.Context, u keep.PartialUpload) error
	// Bin is what the holder deleted and can put back. Discard puts something into it, under a new number; PutBack puts it
	// back, with a name under that; EmptyBin removes it for good.
	Bin(ctx context.Context) ([]keep.Binned, error)
	Discard(ctx context.Context, t *tree.Tree, at, id string) error
	PutBack(ctx context.Context, t *tree.Tree, id, name string) error
	EmptyBin(ctx context.Context, id string) error
	Own
	// SignOut ends the session; why is nil for a plain goodbye.
	SignOut(why *keep.Fault)
}

// stay is a holder who is signed in, in one browser.
type stay struct {
	address string
	client  string // what the browser calls itself
	since   time.Time
	account string
	looks   chan struct{} // room for pictures that are drawn for it
	script  bool          // it came with a token: nothing of the account itself is its to see or change
	visit   Visit
	tree    *tree.Tree
	ctx     context.Context // ends with the stay
	cancel  context.CancelCauseFunc
	until   time.Time

	mu    sync.Mutex
	busy  int // requests that are being answered
	timer *time.Timer
	over  bool
}

// stays are all who are signed in. What one address or account may have open is the
// visit's to say.
type stays struct {
	mu sync.Mutex
	by map[[sha256.Size]byte]*stay // by the digest of the cookie
	wg sync.WaitGroup
}

func digest(secret keep.Secret) [sha256.Size]byte { return sha256.Sum256([]byte(secret.Reveal())) }

// begin lets somebody in who has proved an account.
func (s *stays) begin(one *stay) keep.Secret {
	secret := keep.Secret(rand.Text())
	s.keep(one, secret)
	return secret
}

// keep lets somebody in under a secret. Who is in under it already is given instead.
func (s *stays) keep(one *stay, secret keep.Secret) *stay {
	key := digest(secret)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by == nil {
		s.by = map[[sha256.Size]byte]*stay{}
	}
	if there := s.by[key]; there != nil && there.ctx.Err() == nil {
		return there
	}
	s.by[key] = one
	s.wg.Add(1)
	go func() {
		defer s.wg.Done()
		<-one.ctx.Done()
		s.mu.Lock()
		if s.by[key] == one {
			delete(s.by, key)
		}
		s.mu.Unlock()
		one.end()
	}()
	return one
}

// enter finds who a cookie stands for, and keeps them from being sent away for idleness until leave.
func (s *stays) enter(secret keep.Secret, address string) (one *stay, leave func()) {
	s.mu.Lock()
	one = s.by[digest(secret)]
	s.mu.Unlock()
	// Rights may depend on the network: who comes from elsewhere signs in there.
	if one == nil || one.address != address || !one.take() {
		return nil, nil
	}
	return one, one.leave
}

func (one *stay) take() bool {
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.over || one.ctx.Err() != nil || time.Now().After(one.until) {
		return false
	}
	one.busy++
	one.timer.Stop()
	return true
}

// idle is how long nothing need be asked.
func (one *stay) idle() time.Duration {
	if one.script {
		return scriptIdle
	}
	return one.tree.Idle(stayIdle)
}

func (one *stay) leave() {
	one.mu.Lock()
	defer one.mu.Unlock()
	one.busy--
	if one.over && one.busy == 0 {
		one.close()
	} else if one.busy == 0 {
		one.timer.Reset(min(one.idle(), time.Until(one.until)))
	}
}

// end closes the tree when nothing is being answered any more.
func (one *stay) end() {
	one.mu.Lock()
	defer one.mu.Unlock()
	one.over = true
	one.timer.Stop()
	if one.busy == 0 {
		one.close()
	}
}

func (one *stay) close() {
	one.tree.Close()
	var why *keep.Fault
	if cause, ok := context.Cause(one.ctx).(*keep.Fault); ok {
		why = cause
	}
	one.visit.SignOut(why)
}

// goodbye is the end that a holder asks for.
type goodbye struct{}

func (goodbye) Error() string { return "signed out" }

// endAll ends every stay, and waits until what was being answered has ended too.
func (s *stays) endAll(why *keep.Fault) {
	s.mu.Lock()
	for _, one := range s.by {
		one.cancel(why)
	}
	s.mu.Unlock()
	s.wg.Wait()
}
