package keep

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// PassKind is what a pass is for.
type PassKind string

// The kinds of passes.
const (
	FetchPass PassKind = "fetch" // files can be fetched
	DropPass  PassKind = "drop"  // files can be left
)

// PassKinds are the passes that the holder of an account may make.
type PassKinds string

// The choices.
const (
	NoPasses    PassKinds = "none"
	FetchPasses PassKinds = "fetch"
	DropPasses  PassKinds = "drop"
	BothPasses  PassKinds = "both"
)

// Has reports whether passes of a kind are among them.
func (k PassKinds) Has(kind PassKind) bool { return k == BothPasses || string(k) == string(kind) }

const (
	// DefaultPassTime is how long the passes of holders may live where nothing else is set.
	DefaultPassTime = Seconds(30 * 24 * time.Hour / time.Second)
	// MaxPassTime bounds how long any pass lives.
	MaxPassTime = 366 * 24 * time.Hour
	// MaxPasses bounds the open passes of one account.
	MaxPasses = 1000
	// MaxPassPaths bounds what one pass is for.
	MaxPassPaths = 100
	// MaxPassUploads bounds the unfinished uploads of one pass.
	MaxPassUploads = 200
	// MaxPassUses bounds the uses of one pass that are remembered, the newest.
	MaxPassUses = 1000
	// PassUseBreak is how long an address moves nothing until what it does is another use; PassUseLife bounds one use.
	PassUseBreak, PassUseLife = 30 * time.Minute, 12 * time.Hour
	// EndedPassLife is how long it is remembered who used a pass after its end.
	EndedPassLife = 90 * 24 * time.Hour
	// maxPassText bounds the text and the note of a pass, bytes.
	maxPassText = 1000
)

// Pass is a link with which somebody without an account fetches files of an account, or leaves some, until it ends. It
// gives no more than the account may do itself at that moment.
type Pass struct {
	ID       string // for people; no secret
	Account  int64
	Kind     PassKind
	Digest   []byte   // SHA-256 of the secret in the link
	Paths    []string // files and folders that can be fetched; or the one folder into which files are left
	Shows    bool     // drop: who leaves files sees, and may fetch, what is there; else only that their own have come
	Asks     bool     // drop: for a name, an e-mail address and a message
	Apart    bool     // drop: what one visitor leaves lies in a folder of its own
	Password Secret   // its hash; "": none is asked for
	Text     string   // to whoever opens it
	Note     string   // for the list
	MaxUses  Count    // 0: any number
	MaxBytes Bytes    // 0: any
	Networks Networks // from which it works; none: from everywhere
	Operator string   // who made it; "": the account's holder
	Created  time.Time
	Expires  time.Time
	Ended    time.Time // by hand; zero: it was not
	EndedBy  string
	Uses     int64
	Bytes    int64 // moved
	LastUsed time.Time
}

// PassUse is what one address moves with a pass until it has moved nothing for half an hour.
type PassUse struct {
	ID      string // the session in which it began
	Pass    string
	Address string
	Client  string
	Began   time.Time
	Last    time.Time
	Files   int64
	Bytes   int64
	Name    string // what the visitor says, where a pass asks
	Mail    string
	Message string
}

// Check reports what is wrong as a [*FieldError], and puts the paths into their clean form.
func (p *Pass) Check() error {
	if p.Kind != FetchPass && p.Kind != DropPass {
		return &FieldError{"kind", fmt.Sprintf("%q is not known: use fetch or drop", p.Kind)}
	}
	switch {
	case len(p.Paths) == 0:
		return &FieldError{"paths", "say for which files or folders it is"}
	case len(p.Paths) > MaxPassPaths:
		return &FieldError{"paths", fmt.Sprintf("it is for %d files and folders at the most: put them into one folder", MaxPassPaths)}
	case p.Kind == DropPass && len(p.Paths) > 1:
		return &FieldError{"paths", "files are left in one folder"}
	case p.Kind == FetchPass && (p.Shows || p.Asks || p.Apart):
		return &FieldError{"kind", "that is for passes with which files are left"}
	case p.MaxUses < 0 || p.MaxBytes < 0:
		return &FieldError{"maxUses", "use 0 for any number, or a number above it"}
	}
	for i, at := range p.Paths {
		clean, err := CleanPath("/", at)
		if err != nil {
			return &FieldError{"paths", "that is no path: " + err.Error()}
		}
		p.Paths[i] = clean
	}
	slices.Sort(p.Paths)
	p.Paths = slices.Compact(p.Paths)
	for i, text := range []string{p.Text, p.Note} {
		if len(text) > maxPassText || !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\n' && r != '\r' && r != '\t' }) {
			return &FieldError{[]string{"text", "note"}[i], fmt.Sprintf("use at most %d bytes of UTF-8, without control characters", maxPassText)}
		}
	}
	if life := p.Expires.Sub(p.Created); life <= 0 || life > MaxPassTime {
		return &FieldError{"expires", "use a time from now to 366 days from now"}
	}
	return nil
}

// Rights are what it gives of what the account may.
func (p *Pass) Rights() Rights {
	rights := List | Download
	if p.Kind == DropPass {
		rights = Upload
		if p.Apart {
			rights |= Mkdir
		}
		if p.Shows {
			rights |= List | Download
		}
	}
	return rights
}

// Scope is what it narrows the account to.
func (p *Pass) Scope() *Scope { return &Scope{Paths: p.Paths, Rights: p.Rights()} }

// For says why a policy doesn't give what the pass is for at a path, at a time.
func (p *Pass) For(policy *Policy, at string, folder bool, now time.Time) error {
	need := Download
	if p.Kind == DropPass {
		need, folder = p.Rights(), true
	} else if folder {
		need |= List
	}
	if folder {
		at = path.Join(at, "x")
	}
	for _, one := range need.Each() {
		if err := policy.Decide(one, at, now).Fault(); err != nil {
			return err
		}
	}
	return nil
}

// Closed says why it can't be used any more; nil: it can.
func (p *Pass) Closed(now time.Time) *Fault {
	switch {
	case !p.Ended.IsZero() || !now.Before(p.Expires):
		return Refuse(Expired, "this link has ended")
	case p.MaxBytes > 0 && p.Bytes >= int64(p.MaxBytes):
		return Refuse(Expired, "this link has moved as much as it may")
	}
	return nil
}

// UsedUp reports whether no further visit may move anything.
func (p *Pass) UsedUp() bool { return p.MaxUses > 0 && p.Uses >= int64(p.MaxUses) }

// Allowed says why its account gives no such pass any more; nil: it does.
func (p *Pass) Allowed(account *Effective, now time.Time) *Fault {
	if closed := account.Closed(now); closed != nil {
		return closed
	}
	if p.Operator == "" && !account.Passes.Has(p.Kind) {
		return Refuse(NoRight, "the account may make no such links any more")
	}
	return nil
}
