package keep

import (
	"fmt"
	"time"
)

// Key is an SSH public key attached to an account; or, with Authority, the key of
// a certificate authority whose user certificates the account trusts.
type Key struct {
	ID          int64
	AccountID   int64
	Label       string
	Type        string // as in RFC 4253, section 6.6: "ssh-ed25519"
	Bits        int
	Fingerprint string // "SHA256:" and unpadded base64
	Blob        []byte // wire form, RFC 4253, section 6.6
	Authority   bool
	Expires     time.Time // zero: never
	Networks    Networks  // where from it may be used; none: anywhere
	Added       time.Time
	LastUsed    time.Time // zero: never
	Shelf       string    // its name on the shelf; "": it is the account's own
}

// Usable says why the key may not be used at a time from an IP address, "" when it may.
func (k *Key) Usable(now time.Time, from string) string {
	switch {
	case !k.Expires.IsZero() && !now.Before(k.Expires):
		return fmt.Sprintf("it expired on %s", k.Expires.UTC().Format("2006-01-02 15:04 MST"))
	case len(k.Networks) > 0 && !k.Networks.Has(from):
		return fmt.Sprintf("it may be used from %s only", k.Networks)
	}
	return ""
}

// Strength says in a word how well the key protects: strong or fair. What is
// weak is never taken.
func (k *Key) Strength() string {
	if k.Type == "ssh-rsa" && k.Bits < 3072 { // NIST SP 800-57, part 1, table 2: 112 bits of security
		return "fair"
	}
	return "strong"
}
