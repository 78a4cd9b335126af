package hostkey

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
	"urbankeep/internal/keys/pubkey"
	"urbankeep/internal/records"
)

// State says what a host key does.
type State string

// The states, in the order of a key's life.
const (
	Announced State = "announced" // clients are told of it, and learn it before it is used
	InUse     State = "in-use"    // proves the service; one of each type
	Retired   State = "retired"   // nothing; kept until it is removed
)

// folders are where the keys of each state lie, below the ring's own.
var folders = map[State]string{Announced: "announced", InUse: ".", Retired: "retired"}

// Key is one host key.
type Key struct {
	State  State
	Signer ssh.Signer
	file   string // base name
}

// ID names the key: the beginning of its SHA-256 in hex.
func (k Key) ID() string {
	return fmt.Sprintf("%x", sha256.Sum256(k.Signer.PublicKey().Marshal()))[:16]
}

// Fingerprint is the SHA256 fingerprint.
func (k Key) Fingerprint() string { return ssh.FingerprintSHA256(k.Signer.PublicKey()) }

// Type is as in RFC 4253, section 6.6.
func (k Key) Type() string { return k.Signer.PublicKey().Type() }

// Bits is its length.
func (k Key) Bits() int { return pubkey.Bits(k.Signer.PublicKey()) }

// Line is the public key as it goes into a known_hosts file behind the host's name.
func (k Key) Line() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k.Signer.PublicKey())))
}

// sshfpAlgorithms are the numbers of RFC 4255, RFC 6594 and RFC 7479.
var sshfpAlgorithms = map[string]int{ssh.KeyAlgoRSA: 1, ssh.KeyAlgoECDSA256: 3, ssh.KeyAlgoECDSA384: 3, ssh.KeyAlgoECDSA521: 3, ssh.KeyAlgoED25519: 4}

// sshfpSHA256 is the fingerprint type of RFC 6594, section 4.
const sshfpSHA256 = 2

// SSHFP is the data of the key's DNS record (RFC 4255, section 3.1).
func (k Key) SSHFP() string {
	return fmt.Sprintf("%d %d %x", sshfpAlgorithms[k.Type()], sshfpSHA256, sha256.Sum256(k.Signer.PublicKey().Marshal()))
}

// Ring is all host keys. Each lies in a file of its own, mode 0600, in a folder
// for its state.
type Ring struct {
	dir  string
	mu   sync.Mutex
	keys []Key
}

// Open reads the keys in a folder; where none is in use, one of each kind is made.
func Open(dir string) (*Ring, error) {
	r := &Ring{dir: dir}
	for _, state := range []State{InUse, Announced, Retired} {
		if err := os.MkdirAll(filepath.Join(dir, folders[state]), 0o700); err != nil {
			return nil, fmt.Errorf("host keys: %w", err)
		}
		files, err := filepath.Glob(filepath.Join(dir, folders[state], "*.pem"))
		if err != nil {
			return nil, err
		}
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				return nil, fmt.Errorf("host key: %w", err)
			}
			signer, err := ssh.ParsePrivateKey(text)
			if err != nil {
				return nil, fmt.Errorf("host key %s: %w: move the file away, or put back the right one", file, err)
			}
			r.keys = append(r.keys, Key{state, signer, filepath.Base(file)})
		}
	}
	if len(r.Serving()) > 0 {
		// As they were made: which comes first must not change with a restart.
		slices.SortStableFunc(r.keys, func(a, b Key) int { return rank(a) - rank(b) })
		return r, nil
	}
	for _, kind := range []pubkey.Kind{pubkey.Ed25519, pubkey.ECDSA, pubkey.RSA} {
		if _, err := r.make(kind, InUse); err != nil {
			return nil, fmt.Errorf("host key %s: %w", kind, err)
		}
	}
	return r, nil
}

// rank puts the kinds of keys in order, the one that clients like best first.
func rank(k Key) int {
	kinds := []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSA}
	if at := slices.Index(kinds, k.Type()); at >= 0 {
		return at
	}
	return len(kinds)
}

// Keys lists the keys: those in use first, then the announced, then the retired.
func (r *Ring) Keys() []Key {
	r.mu.Lock()
	defer r.mu.Unlock()
	keys := slices.Clone(r.keys)
	order := []State{InUse, Announced, Retired}
	slices.SortStableFunc(keys, func(a, b Key) int { return slices.Index(order, a.State) - slices.Index(order, b.State) })
	return keys
}

// Serving are the keys in use.
func (r *Ring) Serving() []ssh.Signer { return r.in(InUse) }

// Known are the keys that clients may know: those in use and the announced.
func (r *Ring) Known() []ssh.Signer { return r.in(InUse, Announced) }

func (r *Ring) in(states ...State) []ssh.Signer {
	r.mu.Lock()
	defer r.mu.Unlock()
	var found []ssh.Signer
	for _, k := range r.keys {
		if slices.Contains(states, k.State) {
			found = append(found, k.Signer)
		}
	}
	return found
}

// Make makes a new key, which is announced.
func (r *Ring) Make(kind pubkey.Kind) (Key, error) { return r.make(kind, Announced) }

func (r *Ring) make(kind pubkey.Kind, state State) (Key, error) {
	_, private, err := pubkey.Make(kind, "urbankeep", "")
	if err != nil {
		return Key{}, err
	}
	return r.add([]byte(private.Reveal()), state)
}

// Import takes a private key that was made elsewhere: PEM in any common form,
// with its passphrase if it has one. It is announced. What is wrong with it is a
// [*keep.FieldError].
func (r *Ring) Import(text, passphrase keep.Secret) (Key, error) {
	wrong := func(field, say string) (Key, error) { return Key{}, &keep.FieldError{Field: field, Say: say} }
	private, err := ssh.ParseRawPrivateKey([]byte(text.Reveal()))
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		if passphrase == "" {
			return wrong("passphrase", "the key is encrypted: give its passphrase")
		}
		if private, err = ssh.ParseRawPrivateKeyWithPassphrase([]byte(text.Reveal()), []byte(passphrase.Reveal())); err != nil {
			return wrong("passphrase", "it does not open the key")
		}
	}
	if err != nil {
		return wrong("key", "this is not a private key in PEM form that can be read: give the file that begins with -----BEGIN … PRIVATE KEY-----")
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil || sshfpAlgorithms[signer.PublicKey().Type()] == 0 {
		return wrong("key", "a key of that kind can't be a host key here: use Ed25519, ECDSA or RSA")
	}
	if bits := pubkey.Bits(signer.PublicKey()); signer.PublicKey().Type() == ssh.KeyAlgoRSA && bits < pubkey.MinRSA {
		return wrong("key", fmt.Sprintf("an RSA key of %d bits is too weak: use one of at least %d", bits, pubkey.MinRSA))
	}
	clear, err := pubkey.Private(private, "urbankeep", "")
	if err != nil {
		return Key{}, err
	}
	return r.add([]byte(clear.Reveal()), Announced)
}

// add writes a key's file and takes it into the ring.
func (r *Ring) add(text []byte, state State) (Key, error) {
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return Key{}, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	k := Key{State: state, Signer: signer}
	if r.find(k.ID()) >= 0 {
		return Key{}, &keep.FieldError{Field: "key", Say: "the service has this host key already"}
	}
	k.file = k.Type() + "-" + k.ID() + ".pem"
	file := r.path(k)
	if err := records.WriteFile(file, text); err != nil {
		return Key{}, err
	}
	r.keys = append(r.keys, k)
	return k, nil
}

func (r *Ring) path(k Key) string { return filepath.Join(r.dir, folders[k.State], k.file) }

// find is the place of a key, -1 when it isn't there. The caller holds mu.
func (r *Ring) find(id string) int {
	return slices.IndexFunc(r.keys, func(k Key) bool { return k.ID() == id })
}

var errMissing = keep.Refuse(keep.NotFound, "no such host key: hostkey list shows the ones there are")

// Use puts a key in use for new connections, and retires the one of its type
// that was.
func (r *Ring) Use(id string) (Key, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	at := r.find(id)
	if at < 0 {
		return Key{}, errMissing
	}
	for i, k := range r.keys {
		if i != at && k.State == InUse && k.Type() == r.keys[at].Type() {
			if err := r.move(i, Retired); err != nil {
				return Key{}, err
			}
		}
	}
	err := r.move(at, InUse)
	return r.keys[at], err
}

func (r *Ring) move(i int, to State) error {
	from := r.path(r.keys[i])
	moved := r.keys[i]
	moved.State = to
	if err := os.Rename(from, r.path(moved)); err != nil {
		return err
	}
	r.keys[i] = moved
	return nil
}

// Remove deletes a key. One in use goes only where another type is in use as well.
func (r *Ring) Remove(id string) (Key, error) {
	serving := len(r.Serving())
	r.mu.Lock()
	defer r.mu.Unlock()
	at := r.find(id)
	if at < 0 {
		return Key{}, errMissing
	}
	k := r.keys[at]
	if k.State == InUse && serving == 1 {
		return k, keep.Refuse(keep.InUse, "it is the only host key in use: put another in use first")
	}
	if err := os.Remove(r.path(k)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return k, err
	}
	r.keys = slices.Delete(r.keys, at, at+1)
	return k, nil
}
