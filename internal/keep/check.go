package keep

import (
	"fmt"
	"path"
	"strings"
	"time"
)

// CheckAnswer is what a check says of an upload.
type CheckAnswer string

// The answers.
const (
	CheckYes CheckAnswer = "yes"
	CheckNo  CheckAnswer = "no"
)

// Check holds new uploads of a mount back: until a receiver has said yes, nobody but who uploaded them sees them.
type Check struct {
	Receiver   string      `json:"receiver"`             // is asked, by a web call that carries the file
	Within     Seconds     `json:"within,omitempty"`     // how long it is asked; 0: ten minutes
	Unanswered CheckAnswer `json:"unanswered,omitempty"` // what counts when there is no answer by then; "": no
	Refused    string      `json:"refused,omitempty"`    // folder of the mount where refused files go; "": they are deleted
}

const usualCheckTime = 10 * time.Minute

// Time is how long it is asked.
func (c *Check) Time() time.Duration {
	if c.Within > 0 {
		return c.Within.Duration()
	}
	return usualCheckTime
}

func (c *Check) check() error {
	if err := CheckName("mounts", c.Receiver); err != nil {
		return &FieldError{"mounts", "say which receiver checks, as in check=scanner"}
	}
	if c.Within != 0 && (c.Within < 1 || c.Within.Duration() > 7*24*time.Hour) {
		return &FieldError{"mounts", "a check may take 1s to 7d"}
	}
	if c.Unanswered != "" && c.Unanswered != CheckYes && c.Unanswered != CheckNo {
		return &FieldError{"mounts", fmt.Sprintf("unanswered=%s is not known: use yes or no", c.Unanswered)}
	}
	if c.Refused == "" {
		return nil
	}
	for part := range strings.SplitSeq(strings.Trim(c.Refused, "/"), "/") {
		if part == "." || part == ".." || CheckNewName(part) != nil {
			return &FieldError{"mounts", fmt.Sprintf("refused=%s must be plain folder names joined by slashes", c.Refused)}
		}
	}
	c.Refused = path.Clean("/" + c.Refused)[1:]
	return nil
}

// HeldState is how far a held upload is.
type HeldState string

// The states.
const (
	HeldComing  HeldState = "coming"  // it has not come whole
	HeldWaiting HeldState = "waiting" // for its check
)

// Held is an upload that waits for its check.
type Held struct {
	ID        string // names the file in which it lies
	Account   string // that uploaded it, and alone sees it
	Pass      string // with which, "": none
	Store     string
	Folder    string // in the store, where it is to appear
	Name      string // under which, as the account spells it
	Path      string // in the account's tree
	Over      bool   // it may take the place of a file
	Refused   string // folder of the store where it goes when it is refused; "": it is deleted
	Check     Check
	State     HeldState
	Began     time.Time
	Came      time.Time // whole
	Size      int64
	Hash      string // SHA-256, "" when it is not known
	Address   string
	Protocol  Protocol
	Encrypted bool
	Session   string
	Tries     int
	Said      string // by the receiver, of the last try
	Decided   Decision
}

// Decision is what is being done with a held upload, written down before it is: the next start does what was cut off.
type Decision struct {
	Answer CheckAnswer // "": nothing yet
	How    Outcome     // of the record, when it is refused
	Said   string
}

// Owner is who sees it.
func (h *Held) Owner() string { return HeldBy(h.Account, h.Pass) }

// HeldBy names who uploads for an account, by a pass or not.
func HeldBy(account, pass string) string { return account + "\x00" + pass }

// MaxHeld bounds what one account may have waiting.
const MaxHeld = 10_000

// HeldLife is how long an upload that was begun is kept that doesn't come whole.
const HeldLife = 7 * 24 * time.Hour
