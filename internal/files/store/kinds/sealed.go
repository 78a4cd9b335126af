package kinds

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/files/store/sealed"
	"urbankeep/internal/keep"
)

// KeysFolder is where the data folder has the keys of sealed stores.
const KeysFolder = "storekeys"

// keyFile is where the key of a sealed store lies.
func (k *Stores) keyFile(s keep.Store) string {
	if from, is := strings.CutPrefix(s.Site.Key, keep.FromFile); is {
		return from
	}
	return filepath.Join(k.dir, KeysFolder, s.Name+".txt")
}

// readBounded reads a plain file, up to a bound.
func readBounded(name string, most int64) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, fmt.Errorf("%s is no plain file", name))
	}
	return io.ReadAll(io.LimitReader(f, most))
}

// MakeKey makes the key of a new sealed store where its settings say that it lies, and gives its text, for safe keeping.
// A file that is there is kept and used.
func (k *Stores) MakeKey(s keep.Store, passphrase string) (text string, err error) {
	if strings.HasPrefix(s.Site.Key, keep.FromFile) {
		if _, err := sealed.LoadKey(k.keyFile(s), ""); err != nil {
			return "", fmt.Errorf("the key can't be used: %w", err)
		}
		return "", nil
	}
	if _, err := os.Stat(k.keyFile(s)); err == nil { // the store was forgotten, and comes back
		if err := k.Unlock(s, passphrase); err != nil {
			return "", fmt.Errorf("%s is there, of a store that had this name: %w", k.keyFile(s), err)
		}
		return "", nil
	}
	key, err := sealed.NewKey()
	if err != nil {
		return "", err
	}
	now := time.Now()
	text = key.Text(now)
	lies := []byte(text)
	if s.Site.Key == keep.ByPassphrase {
		if lies, err = key.Locked(passphrase, now); err != nil {
			return "", err
		}
	}
	if err := sealed.SaveKey(k.keyFile(s), lies); err != nil {
		return "", fmt.Errorf("the key can't be kept: %w", err)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.unlocked[s.Name] = key
	return text, nil
}

// Unlock gives the passphrase of a sealed store's key, which then is kept in memory only.
func (k *Stores) Unlock(s keep.Store, passphrase string) error {
	k.unlocking.Lock() // it takes memory
	defer k.unlocking.Unlock()
	key, err := sealed.LoadKey(k.keyFile(s), passphrase)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.unlocked[s.Name] = key
	return nil
}

// Recipient is the public key that a sealed store's files are encrypted to, "" while it is not known.
func (k *Stores) Recipient(s keep.Store) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	if b := k.open[s.Name]; b != nil {
		return b.recipient
	}
	return ""
}

func (k *Stores) sealed(s keep.Store) (*backing, error) {
	key := k.unlocked[s.Name]
	if key == nil || s.Site.Key != keep.ByPassphrase {
		var err error
		if key, err = sealed.LoadKey(k.keyFile(s), ""); err != nil {
			return nil, err
		}
	}
	root := func() (store.Folder, error) { return onDisk(s) }
	on, err := sealed.New(sealed.Setup{Key: key, Recipients: s.Site.Recipients, SealNames: s.Site.SealNames, Root: root,
		Scratch: func() (*scratch.File, error) {
			folder, err := root() // it is made on no other disk
			if err != nil {
				return nil, err
			}
			folder.Close()
			return k.scratch(filepath.Join(s.Folder, store.SpoolName))
		}})
	if err != nil {
		return nil, err
	}
	return &backing{recipient: key.Recipient(), root: func() (store.Folder, error) {
		folder, err := root()
		if err != nil {
			return nil, err
		}
		return on.Folder(folder), nil
	}, stop: func() {}}, nil
}
