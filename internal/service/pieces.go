package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/disk"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/keep"
	"urbankeep/internal/watch/audit"
)

// leastRoom is what must be free on the disk of the data folder, in bytes, for anything to be
// begun: what is under way, and operators' changes, still have their room then.
const leastRoom = 4 << 20

// room says why there is no room for records.
func (s *Service) room() error {
	space, err := s.space()
	if errors.Is(err, errors.ErrUnsupported) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("look at the disk of the data folder: %w", err)
	}
	if space.FreeBytes < leastRoom {
		return fmt.Errorf("the disk of the data folder is full: %d bytes are free, and %d must be", space.FreeBytes, leastRoom)
	}
	return nil
}

func (s *Service) space() (store.Space, error) {
	folder, err := disk.Open(s.dir)
	if err != nil {
		return store.Space{}, err
	}
	defer folder.Close()
	return store.SpaceOf(folder)
}

// cutOff says what is left of an upload that the end of the process cut off.
func (s *Service) cutOff(b audit.Begun) string {
	name, at, ok := strings.Cut(b.Place, ":")
	if !ok || b.Record.Action != keep.Uploading {
		return ""
	}
	stores, err := s.DB.Stores(context.Background())
	if err != nil {
		return ""
	}
	for _, known := range stores {
		if known.Name != name {
			continue
		}
		folder, err := s.Stores.Look(known, path.Dir(at))
		if err == nil {
			defer folder.Close()
			info, err := folder.Lookup(keep.Unspell(path.Base(at)))
			if err == nil {
				return fmt.Sprintf("%d bytes are there", info.Size())
			}
		}
		if errors.Is(err, fs.ErrNotExist) {
			return "nothing is there"
		}
	}
	return ""
}

// The settings in which it is kept which keys the data folder should have, and that the
// service runs.
const (
	piecesSetting  = "pieces"
	runningSetting = "running"
)

// pieces are what must be in the data folder beside the records.
type pieces struct {
	Seal     string   `json:"seal"`     // fingerprint of the key of the audit trail
	HostKeys []string `json:"hostKeys"` // fingerprints
	Journal  bool     `json:"journal"`  // of the audit trail
}

// missPieces refuses to go on where pieces are gone that the service had: new ones would take
// their place unseen.
func (s *Service) missPieces(ctx context.Context, accept bool) error {
	text, err := s.DB.Setting(ctx, piecesSetting)
	if err != nil || text == "" {
		return err
	}
	var had pieces
	if err := json.Unmarshal([]byte(text), &had); err != nil {
		return fmt.Errorf("read which keys there should be: %w", err)
	}
	var gone []string
	if had.Seal != "" && missing(filepath.Join(s.dir, audit.KeyFile)) {
		gone = append(gone, "the key of the audit trail ("+audit.KeyFile+", SHA-256 "+had.Seal+")")
	}
	if len(had.HostKeys) > 0 && emptyFolder(filepath.Join(s.dir, hostKeysFolder)) {
		gone = append(gone, "the host keys ("+hostKeysFolder+", "+strings.Join(had.HostKeys, ", ")+")")
	}
	if had.Journal && audit.JournalGone(s.dir) {
		gone = append(gone, "the journal of the audit trail (audit.journal.0 and .1), in which the last records before the end may have been")
	}
	if len(gone) == 0 {
		return nil
	}
	if accept {
		s.log.Warn("pieces of the data folder are gone and are made anew", "gone", gone)
		s.gone = "without " + strings.Join(gone, " and ") + ": the loss was accepted, and they were made anew"
		return nil
	}
	return fmt.Errorf("the data folder %s has lost %s: put them back (keys from a backup, with urbankeep restore), or have new ones made with serve -accept-loss", s.dir, strings.Join(gone, " and "))
}

func missing(name string) bool {
	_, err := os.Stat(name)
	return errors.Is(err, fs.ErrNotExist)
}

// emptyFolder reports whether there is no file in a folder or below it.
func emptyFolder(name string) bool {
	found := false
	filepath.WalkDir(name, func(_ string, d fs.DirEntry, err error) error {
		found = found || err == nil && !d.IsDir()
		return nil
	})
	return !found
}

// notePieces keeps which keys there are.
func (s *Service) notePieces(ctx context.Context) error {
	have := pieces{Seal: s.Seal.Fingerprint(), Journal: s.Trail.Journal != nil}
	for _, k := range s.HostKeys.Keys() {
		have.HostKeys = append(have.HostKeys, k.Fingerprint())
	}
	text, err := json.Marshal(have)
	if err != nil {
		return err
	}
	return s.DB.SaveSetting(ctx, piecesSetting, string(text))
}

// markStores marks the stores that are not marked yet, and says which ones are away.
func (s *Service) markStores(ctx context.Context, stores []keep.Store) error {
	for _, one := range stores {
		if one.Mark == "" && one.Local() {
			if moved := filepath.Join(s.dir, filepath.Base(one.Folder)); missing(one.Folder) && !missing(moved) {
				one.Folder = moved // the data folder was moved, and the store in it
			}
			if missing(one.Folder) {
				continue // it is made and marked when it is used
			}
			number, err := s.Stores.Mark(one)
			if err != nil {
				return fmt.Errorf("store %s: %w", one.Name, err)
			}
			if one.Mark = number; one.Durability == "" {
				one.Durability = keep.Power
			}
			if err := s.DB.SaveStore(ctx, one); err != nil {
				return err
			}
		}
		if err := s.Stores.Health(one).Away; err != nil {
			s.log.Error("a store is away", "store", one.Name, "cause", causeOf(err))
		}
	}
	return nil
}

// wake notes that the service runs. When it did not end properly, what is known of the
// quotas is doubted: the power may have gone.
func (s *Service) wake(ctx context.Context) error {
	ran, err := s.DB.Setting(ctx, runningSetting)
	if err != nil {
		return err
	}
	if ran != "" {
		s.log.Warn("the service did not end properly the last time; folders with quotas are counted anew")
		s.ledger.Doubt()
	}
	s.awake = true
	return s.DB.SaveSetting(ctx, runningSetting, s.started.Format(time.RFC3339))
}

// sleep notes that the service ends properly.
func (s *Service) sleep() error {
	if !s.awake {
		return nil
	}
	if err := s.DB.SaveSetting(context.Background(), runningSetting, ""); err != nil {
		s.log.Error("it is not noted that the service ends properly; the next start counts folders with quotas anew", "cause", err)
	}
	return nil
}

// lookingPace is how often the service looks for what no event tells.
const lookingPace = 15 * time.Second

// lookAround looks for what no event tells: accounts whose time has ended by the clock on the
// wall, listeners that can listen by now.
func (s *Service) lookAround(ctx context.Context) {
	tick := time.NewTicker(lookingPace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			s.door.endWhatHasEnded()
			s.tryAgain(ctx)
			s.cut = s.mend(ctx, s.cut, false)
			s.keepGuard()
		}
	}
}

// problems are what keeps the service from its work.
func (s *Service) problems(ctx context.Context) ([]string, error) {
	found := []string{}
	if err := s.Trail.Stuck(); err != nil {
		found = append(found, "the audit trail can't be written, so nothing is done: "+err.Error())
	}
	stores, err := s.DB.Stores(ctx)
	for _, one := range stores {
		if why := s.unwell(ctx, one, s.Stores.Health(one)); why != "" {
			found = append(found, why)
		}
	}
	listeners, lerr := s.DB.Listeners(ctx)
	for _, l := range listeners {
		if why := s.Unable(l.Name); why != "" {
			found = append(found, why)
		}
	}
	return found, errors.Join(err, lerr)
}

// unwell says what is wrong with a store, "" when nothing is: nobody minds that one takes no writes into which all mounts are read-only.
func (s *Service) unwell(ctx context.Context, one keep.Store, h kinds.Health) string {
	switch {
	case h.Away != nil:
		return causeOf(h.Away).Error()
	case h.Closed != nil && s.Office.Written(ctx, one.Name):
		return "the store " + one.Name + " (" + one.Where() + ") takes no writes: " + h.Closed.Error()
	}
	return ""
}

// causeOf is what operators may hear of an error: with real paths.
func causeOf(err error) error {
	if cause := errors.Unwrap(err); cause != nil {
		return cause
	}
	return err
}
