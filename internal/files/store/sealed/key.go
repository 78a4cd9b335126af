package sealed

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
	"golang.org/x/crypto/hkdf"
)

// Key opens the files of a store.
type Key struct{ identity *age.X25519Identity }

// NewKey makes a key.
func NewKey() (*Key, error) {
	identity, err := age.GenerateX25519Identity()
	return &Key{identity}, err
}

// Recipient is the public part, age1…
func (k *Key) Recipient() string { return k.identity.Recipient().String() }

// Text is the key as a file of the public tool.
func (k *Key) Text(created time.Time) string {
	return fmt.Sprintf("# created: %s\n# public key: %s\n%s\n", created.UTC().Format(time.RFC3339), k.Recipient(), k.identity)
}

// secret derives a key for another use.
func (k *Key) secret(use string) []byte {
	out := make([]byte, 32)
	if _, err := io.ReadFull(hkdf.New(sha256.New, []byte(k.identity.String()), nil, []byte("urbankeep "+use)), out); err != nil {
		panic(err) // never, for so few bytes
	}
	return out
}

// maxKeyFile bounds a file with a key, bytes.
const maxKeyFile = 16 << 10

// How much work a passphrase is (RFC 7914): 64 MiB of memory for our own keys, and at the most 256 MiB.
const (
	ownWork  = 16
	mostWork = 18
)

// ErrLocked says that a key is encrypted with a passphrase that nobody has given yet.
var ErrLocked = errors.New("its key is encrypted with a passphrase, which must be given")

// ReadKey reads the text of a key, encrypted with a passphrase or not.
func ReadKey(text []byte, passphrase string) (*Key, error) {
	if bytes.HasPrefix(text, []byte("age-encryption.org/v1\n")) {
		if passphrase == "" {
			return nil, ErrLocked
		}
		scrypt, err := age.NewScryptIdentity(passphrase)
		if err != nil {
			return nil, err
		}
		scrypt.SetMaxWorkFactor(mostWork)
		plain, err := age.Decrypt(bytes.NewReader(text), scrypt)
		if err != nil {
			return nil, errors.New("that is not the passphrase of the key")
		}
		if text, err = io.ReadAll(io.LimitReader(plain, maxKeyFile)); err != nil {
			return nil, err
		}
	}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "AGE-SECRET-KEY-1") {
			identity, err := age.ParseX25519Identity(line)
			if err != nil {
				return nil, fmt.Errorf("the key can't be read: %w", err)
			}
			return &Key{identity}, nil
		}
	}
	return nil, errors.New("there is no line with a key in it (AGE-SECRET-KEY-1…)")
}

// Locked is the text of the key, encrypted with a passphrase.
func (k *Key) Locked(passphrase string, created time.Time) ([]byte, error) {
	scrypt, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	scrypt.SetWorkFactor(ownWork)
	var out bytes.Buffer
	w, err := age.Encrypt(&out, scrypt)
	if err != nil {
		return nil, err
	}
	_, err = io.WriteString(w, k.Text(created))
	err = errors.Join(err, w.Close())
	return out.Bytes(), err
}

// LoadKey reads the file of a key.
func LoadKey(name, passphrase string) (*Key, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, &fs.PathError{Op: "read", Path: name, Err: errors.New("it is no plain file")})
	}
	text, err := io.ReadAll(io.LimitReader(f, maxKeyFile))
	if err != nil {
		return nil, err
	}
	return ReadKey(text, passphrase)
}

// SaveKey writes the file of a new key, on the medium when it returns.
func SaveKey(name string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(name))
	}
	return syncFolder(filepath.Dir(name))
}

func syncFolder(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	dir.Sync() // not every system can
	return dir.Close()
}

// CheckRecipient says what is wrong with a public key of somebody else who can open the files.
func CheckRecipient(text string) error {
	if strings.HasPrefix(text, "AGE-SECRET-KEY-") {
		return errors.New("that is a private key, which belongs to nobody else: give its public one (age1…), and make a new pair if others saw it")
	}
	if _, err := age.ParseX25519Recipient(text); err != nil {
		return fmt.Errorf("%q is no public key (age1…)", text)
	}
	return nil
}
