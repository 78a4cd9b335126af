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
	whole, err := openFolder(s.Folder)
	if err != nil || folder == "." {
		return whole, err
	}
	defer whole.Close()
	return whole.Cross(folder)
}

// Open is Look for a mount: it makes what is missing, and gives how many folders of
// the store were made. A link on the way is refused: mount the folder that it leads to.
func Open(s keep.Store, folder string) (f Folder, made int, err error) {
	if err := os.MkdirAll(s.Folder, FolderMode); err != nil {
		return nil, 0, fmt.Errorf("make the folder of store %s: %w", s.Name, err)
	}
	whole, err := openFolder(s.Folder)
	if err != nil {
		return nil, 0, fmt.Errorf("open store %s: %w", s.Name, err)
	}
	if folder == "." {
		return whole, 0, nil
	}
	defer whole.Close()
	if f, err = whole.Cross(folder); err == nil {
		return f, 0, nil
	}
	f, owned := whole, false
	for part := range strings.SplitSeq(folder, "/") {
		next, err := f.Enter(part)
		if errors.Is(err, fs.ErrNotExist) {
			if err = f.Mkdir(part, FolderMode); err == nil {
				made++
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
