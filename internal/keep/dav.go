package keep

import "time"

// Lock keeps others from changing a file or folder over WebDAV (RFC 4918, section 6). It lies on what is in a store,
// whichever account's tree leads there.
type Lock struct {
	Token   string // a URI that nobody guesses
	Account string
	Store   string
	Path    string // in the store
	Deep    bool   // it holds for all that is in the folder
	Shared  bool
	Owner   string // XML, as its client gave it
	Created time.Time
	Expires time.Time
}

const (
	// LockTime is how long a lock lives where its client does not say; MaxLockTime the longest.
	LockTime, MaxLockTime = 10 * time.Minute, 24 * time.Hour
	// MaxLocks bounds the locks of one account.
	MaxLocks = 300
	// MaxLockOwner bounds what a client says of who holds a lock, bytes.
	MaxLockOwner = 4 << 10
)

// Property is a dead property of a file or folder (RFC 4918, section 4): what a WebDAV client wants remembered.
type Property struct {
	Space, Name string
	Value       string // XML, the element itself
}

const (
	// MaxProperties and MaxPropertyBytes bound those of one file or folder, MaxAccountProperties those that one account set.
	MaxProperties, MaxPropertyBytes = 100, 64 << 10
	MaxAccountProperties            = 20_000
)
