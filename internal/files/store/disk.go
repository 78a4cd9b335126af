// Package store is where bytes live: for now folders on disk. It knows nothing
// of accounts, rights or protocols.
package store

import (
	"fmt"
	"os"
	"path"
	"path/filepath"

	"urbankeep/internal/keep"
)

// Modes of the folders and files that the service makes: the service's own user
// and group, nobody else on the machine.
const (
	FolderMode os.FileMode = 0o750
	FileMode   os.FileMode = 0o640
)

// Look opens one folder of a store when it is there.
func Look(s keep.Store, folder string) (*os.Root, error) {
	whole, err := os.OpenRoot(s.Folder)
	if err != nil || folder == "." {
		return whole, err
	}
	defer whole.Close()
	return whole.OpenRoot(folder)
}

// Open opens one folder of a store (relative, slash-separated, "." for the
// whole store), making what is missing of it. What the returned root opens
// can't leave that folder, whatever links are in it: the kernel resolves each
// part of a name below it. It gives how many folders of the store were made.
func Open(s keep.Store, folder string) (root *os.Root, made int, err error) {
	if err := os.MkdirAll(s.Folder, FolderMode); err != nil {
		return nil, 0, fmt.Errorf("make the folder of store %s: %w", s.Name, err)
	}
	whole, err := os.OpenRoot(s.Folder)
	if err != nil {
		return nil, 0, fmt.Errorf("open store %s: %w", s.Name, err)
	}
	if folder == "." {
		return whole, 0, nil
	}
	defer whole.Close()
	if root, err = whole.OpenRoot(folder); err == nil {
		return root, 0, nil
	}
	for at := folder; filepath.IsLocal(at) && at != "."; at = path.Dir(at) {
		if _, err := whole.Stat(at); err == nil {
			break
		}
		made++
	}
	if err := whole.MkdirAll(folder, FolderMode); err != nil {
		return nil, 0, fmt.Errorf("make %s in store %s: %w", folder, s.Name, err)
	}
	if root, err = whole.OpenRoot(folder); err != nil {
		return nil, made, fmt.Errorf("open %s in store %s: %w", folder, s.Name, err)
	}
	return root, made, nil
}
