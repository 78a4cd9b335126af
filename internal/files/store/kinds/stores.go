package kinds

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/bucket"
	"urbankeep/internal/files/store/disk"
	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/files/store/sealed"
	"urbankeep/internal/keep"
)

// Stores are the open stores of the service.
type Stores struct {
	dir    string // the data folder
	log    *slog.Logger
	memory *bucket.Memory

	unlocking sync.Mutex // held while a passphrase is tried

	mu       sync.Mutex
	open     map[string]*backing    // by name, of what is not just a folder
	unlocked map[string]*sealed.Key // keys that were encrypted with a passphrase, by the store's name
	patients map[string]*patient    // by name
	held     map[string]error       // why a store's mounts are not opened, by its name
}

// backing is what is behind a store.
type backing struct {
	of   keep.Store
	root func() (store.Folder, error) // opens the store's own folder, held against its mark
	stop func()

	recipient string // sealed: the public key
}

// New gives the stores of a data folder.
func New(dir string, log *slog.Logger) *Stores {
	return &Stores{dir: dir, log: log, memory: bucket.NewMemory(uploadMemory), open: map[string]*backing{}, unlocked: map[string]*sealed.Key{}, patients: map[string]*patient{}, held: map[string]error{}}
}

// Close lets go of what is behind the stores.
func (k *Stores) Close() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for name, b := range k.open {
		b.stop()
		delete(k.open, name)
	}
}

// Forget lets go of what is behind a store, so that it is opened anew.
func (k *Stores) Forget(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if b := k.open[name]; b != nil {
		b.stop()
		delete(k.open, name)
	}
}

// Hold keeps a store's mounts from being opened, for a reason, until that is nil. Who has one open keeps it.
func (k *Stores) Hold(name string, why error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if why == nil {
		delete(k.held, name)
		return
	}
	k.held[name] = why
}

// Look opens one folder of a store (relative, slash-separated, "." for the whole
// store) when it is there. No link is followed below the store's own folder.
func (k *Stores) Look(s keep.Store, folder string) (store.Folder, error) {
	all, err := k.root(s)
	if err != nil || folder == "." {
		return all, err
	}
	defer all.Close()
	return all.Cross(folder)
}

// Open is Look for a mount: it makes what is missing (of a marked store nothing but folders in it), and gives how many folders of
// the store were made. A link on the way is refused: mount the folder that it leads to.
func (k *Stores) Open(s keep.Store, folder string) (f store.Folder, made int, err error) {
	k.mu.Lock()
	held := k.held[s.Name]
	k.mu.Unlock()
	if held != nil {
		return nil, 0, held
	}
	if s.Mark == "" && s.Local() {
		if err := os.MkdirAll(s.Folder, store.FolderMode); err != nil {
			return nil, 0, fmt.Errorf("make the folder of store %s: %w", s.Name, err)
		}
	}
	all, err := k.root(s)
	if err != nil {
		return nil, 0, fmt.Errorf("open store %s: %w", s.Name, err)
	}
	if folder == "." {
		return all, 0, nil
	}
	defer all.Close()
	if f, err = all.Cross(folder); err == nil {
		return f, 0, nil
	}
	f, owned := all, false
	for part := range strings.SplitSeq(folder, "/") {
		next, err := f.Enter(part)
		if errors.Is(err, fs.ErrNotExist) {
			if err = f.Mkdir(part, store.FolderMode); err == nil {
				made++
				if s.Durability == keep.Power {
					err = store.Sync(f)
				}
			}
			if err == nil || errors.Is(err, fs.ErrExist) {
				next, err = f.Enter(part)
			}
		}
		if owned {
			f.Close()
		}
		if err != nil {
			return nil, made, fmt.Errorf("open %s in store %s: %w", folder, s.Name, err)
		}
		f, owned = next, true
	}
	return f, made, nil
}

// Check says what keeps a store from being used, nil when nothing does.
func (k *Stores) Check(s keep.Store) error {
	folder, err := k.root(s)
	if err != nil {
		return err
	}
	return folder.Close()
}

// Mark marks a store's own folder and gives the number. A folder that has a number keeps it.
func (k *Stores) Mark(s keep.Store) (string, error) {
	s.Mark = ""
	open := k.root
	if s.Local() {
		open = onDisk // in clear, also where files are sealed
	}
	folder, err := open(s)
	if err != nil {
		return "", fmt.Errorf("the folder can't be marked: %w", err)
	}
	number, err := store.Mark(folder)
	return number, errors.Join(err, folder.Close())
}

// root opens a store's own folder, if it is the one that was founded. One that is known not to answer is not asked.
func (k *Stores) root(s keep.Store) (store.Folder, error) {
	if err := k.hanging(s); err != nil {
		return nil, err
	}
	return k.reach(s)
}

func (k *Stores) reach(s keep.Store) (store.Folder, error) {
	if s.Kind == keep.Disk || s.Kind == "" {
		return onDisk(s)
	}
	b, err := k.behind(s)
	if err != nil {
		return nil, err
	}
	return b.root()
}

// onDisk opens the folder of the machine that a store is.
func onDisk(s keep.Store) (store.Folder, error) {
	folder, err := disk.Open(s.Folder)
	if err != nil || s.Mark == "" {
		if errors.Is(err, fs.ErrNotExist) && s.Mark != "" {
			err = store.Away(s, s.Folder+" does not exist")
		}
		return folder, err
	}
	if err := store.Marked(s, folder, s.Folder); err != nil {
		folder.Close()
		return nil, err
	}
	return folder, nil
}

// behind gives what is behind a store, as its settings are now.
func (k *Stores) behind(s keep.Store) (*backing, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	b := k.open[s.Name]
	if b != nil && sameStore(b.of, s) {
		return b, nil
	}
	made, err := k.back(s)
	if err != nil {
		return nil, store.Away(s, err.Error())
	}
	if b != nil {
		b.stop()
	}
	made.of = s
	k.open[s.Name] = made
	return made, nil
}

func (k *Stores) back(s keep.Store) (*backing, error) {
	switch s.Kind {
	case keep.Sealed:
		return k.sealed(s)
	case keep.Object:
		return k.object(s)
	case keep.Blob:
		return k.blob(s)
	case keep.Remote:
		return remoteOf(s)
	}
	return nil, fmt.Errorf("this program knows no stores of kind %q", s.Kind)
}

// spoolFolder is where files lie, encrypted, that are not whole yet.
const spoolFolder = "spool"

// leastRoom is what scratch files leave free on the disk, bytes: the records of the service lie there too.
const leastRoom = 256 << 20

// scratch makes a scratch file in a folder.
func (k *Stores) scratch(folder string) (*scratch.File, error) {
	return scratch.New(folder, func() error {
		on, err := disk.Open(folder)
		if err != nil {
			return err
		}
		defer on.Close()
		if space, err := store.SpaceOf(on); err == nil && space.FreeBytes < leastRoom {
			return keep.Refuse(keep.DiskFull, "there is no room on the service's own disk for a file that isn't written from its beginning to its end")
		}
		return nil
	})
}

// spool is the folder of scratch files of stores that are not on a disk.
func (k *Stores) spool() string { return filepath.Join(k.dir, spoolFolder) }
