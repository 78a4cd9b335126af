package api

import (
	"time"

	"urbankeep/internal/keep"
)

// Key is an SSH public key of an account, or the key of an authority whose user
// certificates the account trusts.
type Key struct {
	ID          int64      `json:"id"`
	Label       string     `json:"label"`
	Type        string     `json:"type"`
	Bits        int        `json:"bits"`
	Strength    string     `json:"strength"` // strong or fair
	Fingerprint string     `json:"fingerprint"`
	Authority   bool       `json:"authority"`
	Expires     *time.Time `json:"expires,omitempty"`
	Networks    []string   `json:"networks"` // where from it may be used; none: anywhere
	SharedWith  []string   `json:"sharedWith"`
	Created     time.Time  `json:"created"`
	LastUsed    *time.Time `json:"lastUsed,omitempty"`
	Shelf       string     `json:"shelf,omitempty"` // its name on the shelf; "": it is the account's own
}

// ShelfKey is a key on the shelf, which accounts have by reference.
type ShelfKey struct {
	Name        string     `json:"name"`
	Owner       string     `json:"owner"` // who has the private half
	Note        string     `json:"note"`
	Type        string     `json:"type"`
	Bits        int        `json:"bits"`
	Strength    string     `json:"strength"`
	Fingerprint string     `json:"fingerprint"`
	Authority   bool       `json:"authority"`
	Expires     *time.Time `json:"expires,omitempty"`
	Networks    []string   `json:"networks"`
	Created     time.Time  `json:"created"`            // when this public key came
	Replaced    *time.Time `json:"replaced,omitempty"` // when it took the place of another
	LastUsed    *time.Time `json:"lastUsed,omitempty"` // by any account
	Accounts    []string   `json:"accounts"`           // to which it is attached
}

// ShelfAsk puts a key on the shelf, or changes one; what is not there stays as it is.
type ShelfAsk struct {
	Name      string     `json:"name,omitempty"` // of a new one
	Key       *string    `json:"key,omitempty"`  // takes the place of the one that is there
	Owner     *string    `json:"owner,omitempty"`
	Note      *string    `json:"note,omitempty"`
	Expires   *time.Time `json:"expires,omitempty"` // the zero time: never
	Networks  *[]string  `json:"networks,omitempty"`
	Authority bool       `json:"authority,omitempty"` // of a new one
}

// ShelfAttach attaches a key to accounts.
type ShelfAttach struct {
	Accounts []string `json:"accounts"`
}

// ShelfKeyOf shows a key on the shelf.
func ShelfKeyOf(k keep.ShelfKey) ShelfKey {
	if k.Accounts == nil {
		k.Accounts = []string{}
	}
	return ShelfKey{Name: k.Name, Owner: k.Owner, Note: k.Note, Type: k.Type, Bits: k.Bits, Strength: k.Strength(), Fingerprint: k.Fingerprint, Authority: k.Authority, Expires: Known(k.Expires),
		Networks: NetworkList(k.Networks), Created: k.Added, Replaced: Known(k.Replaced), LastUsed: Known(k.LastUsed), Accounts: k.Accounts}
}

// KeyOf shows a key.
func KeyOf(k keep.Key, sharedWith []string) Key {
	return Key{ID: k.ID, Label: k.Label, Type: k.Type, Bits: k.Bits, Strength: k.Strength(), Fingerprint: k.Fingerprint, Authority: k.Authority,
		Expires: Known(k.Expires), Networks: NetworkList(k.Networks), SharedWith: sharedWith, Created: k.Added, LastUsed: Known(k.LastUsed), Shelf: k.Shelf}
}

// Known is a time, nil where it is the zero one.
func Known(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// NetworkList is networks as a list of texts.
func NetworkList(n keep.Networks) []string {
	shown := make([]string, len(n))
	for i := range n {
		shown[i] = n[i : i+1].String()
	}
	return shown
}

// KeyNew asks for keys: all that are in a text.
type KeyNew struct {
	Key       string     `json:"key"`
	Label     string     `json:"label,omitempty"`
	Shared    bool       `json:"shared,omitempty"` // another account may have it too
	Authority bool       `json:"authority,omitempty"`
	Expires   *time.Time `json:"expires,omitempty"`
	Networks  []string   `json:"networks,omitempty"`
}

// KeyChange asks for changes of a key; fields that are not there stay as they are.
type KeyChange struct {
	Label    *string    `json:"label,omitempty"`
	Expires  *time.Time `json:"expires,omitempty"` // 0001-01-01T00:00:00Z: never
	Networks *[]string  `json:"networks,omitempty"`
}

// KeyPairNew asks for a key pair.
type KeyPairNew struct {
	Type       string     `json:"type,omitempty"` // ed25519 (""), ecdsa or rsa
	Label      string     `json:"label,omitempty"`
	Passphrase string     `json:"passphrase,omitempty"` // encrypts the private half
	Expires    *time.Time `json:"expires,omitempty"`
	Networks   []string   `json:"networks,omitempty"`
}

// KeyPair is a new key with its private half, which is shown this once.
type KeyPair struct {
	Key     Key    `json:"key"`
	Private string `json:"private"`
}

// KeyText is a text to look for public keys in.
type KeyText struct {
	Key string `json:"key"`
}

// KeyTest is a key that was found in a text, or why it can't be used.
type KeyTest struct {
	Line        int        `json:"line"`
	Problem     string     `json:"problem,omitempty"`
	Label       string     `json:"label"`
	Type        string     `json:"type"`
	Bits        int        `json:"bits"`
	Strength    string     `json:"strength"`
	Fingerprint string     `json:"fingerprint"`
	Authority   bool       `json:"authority"`
	Expires     *time.Time `json:"expires,omitempty"`
	Networks    []string   `json:"networks"`
	Accounts    []string   `json:"accounts"` // that it would let in
}

// HostKey is one of the keys by which SSH clients know the service.
type HostKey struct {
	ID          string `json:"id"`
	State       string `json:"state"` // in-use, announced or retired
	Type        string `json:"type"`
	Bits        int    `json:"bits"`
	Fingerprint string `json:"fingerprint"`
	Line        string `json:"line"`  // as it goes into known_hosts behind the host's name
	SSHFP       string `json:"sshfp"` // data of a DNS record (RFC 4255, RFC 6594, RFC 7479)
}

// HostKeyNew asks for a host key: a new one of a type, or one that was made elsewhere.
type HostKeyNew struct {
	Type       string `json:"type,omitempty"`    // ed25519, ecdsa or rsa
	Private    string `json:"private,omitempty"` // PEM
	Passphrase string `json:"passphrase,omitempty"`
}
