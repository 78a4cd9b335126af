package store

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"urbankeep/internal/keep"
)

// Modes of the folders and files that the service makes: the service's own user
// and group, nobody else on the machine.
const (
	FolderMode os.FileMode = 0o750
	FileMode   os.FileMode = 0o640
)

// Look opens one folder of a store (relative, slash-separated, "." for the whole
// store) when it is there. No link is followed below the store's own folder.
func Look(s keep.Store, folder string) (Folder, error) {
	all, err := whole(s)
	if err != nil || folder == "." {
		return all, err
	}
	defer all.Close()
	return all.Cross(folder)
}

// Open is Look for a mount: it makes what is missing (of a marked store nothing but folders in it), and gives how many folders of
// the store were made. A link on the way is refused: mount the folder that it leads to.
func Open(s keep.Store, folder string) (f Folder, made int, err error) {
	if s.Mark == "" {
		if err := os.MkdirAll(s.Folder, FolderMode); err != nil {
			return nil, 0, fmt.Errorf("make the folder of store %s: %w", s.Name, err)
		}
	}
	all, err := whole(s)
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
			if err = f.Mkdir(part, FolderMode); err == nil {
				made++
				if s.Durability == keep.Power {
					err = Sync(f)
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
