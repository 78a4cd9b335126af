package portal

import (
	"context"
	"net/url"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
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
	Passes bool   // it shows passes too
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
	ByPasskey(ctx context.Context, at Site, id string, response []byte, code string) (*tree.Tree, error)
	// LeaveForSSO says where a browser is to go for a single sign-on, and what it is known by when it is back: browser, where it has
	// that. BySSO ends it; opened is nil when that let an SFTP client in.
	LeaveForSSO(ctx context.Context, at Site, ask api.SSOLeave, browser keep.Secret) (where string, _ keep.Secret, err error)
	BySSO(ctx context.Context, browser keep.Secret, answer url.Values) (opened *tree.Tree, err error)
	// Link is the SFTP client that waits under a code; DenyLink sends it away.
	Link(code string) (api.PortalLink, error)
	DenyLink(code string) error
	// ChangePassword gives an account that must change its password another.
	ChangePassword(ctx context.Context, account string, old, wanted keep.Secret, code string) error
	// Named says what software the client claims to be.
	Named(client string)
	exchange.Uploads
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
	*exchange.Stay
	account string
	looks   chan struct{} // room for pictures that are drawn for it
	script  bool          // it came with a token: nothing of the account itself is its to see or change
	visit   Visit
}

// settle gives the stay what it is in for.
func (one *stay) settle(opened *tree.Tree, until time.Time) {
	one.account, one.Tree, one.Until, one.Uploads = opened.Account(), opened, until, one.visit
	one.Idle, one.Stalled, one.Leave = one.idle, one.stalled, one.visit.SignOut
	one.Settle()
}

// idle is how long nothing need be asked.
func (one *stay) idle() time.Duration {
	if one.script {
		return scriptIdle
	}
	return one.Tree.Idle(stayIdle)
}

// stalled is why a sign-in ends with which nothing is done any more.
func (one *stay) stalled() error {
	if one.script {
		return exchange.Goodbye{}
	}
	return keep.Refuse(keep.Stalled, "nothing was asked for too long")
}
