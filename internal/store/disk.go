// Package store is where bytes live: for now folders on disk. It knows nothing
// of accounts, rights or protocols.
package store

import (
	"fmt"
	"os"

	"urbankeep/internal/keep"
)

// Modes of the folders and files that the service makes: the service's own user
// and group, nobody else on the machine.
const (
	FolderMode os.FileMode = 0o750
	FileMode   os.FileMode = 0o640
)

// Open opens one folder of a store (relative, slash-separated, "." for the
// whole store), making what is missing of it. What the returned root opens
// can't leave that folder, whatever links are in it: the kernel resolves each
// part of a name below it.
func Open(s keep.Store, folder string) (*os.Root, error) {
	if err := os.MkdirAll(s.Folder, FolderMode); err != nil {
		return nil, fmt.Errorf("make the folder of store %s: %w", s.Name, err)
	}
	whole, err := os.OpenRoot(s.Folder)
	if err != nil {
		return nil, fmt.Errorf("open store %s: %w", s.Name, err)
	}
	if folder == "." {
		return whole, nil
	}
	defer whole.Close()
	if err := whole.MkdirAll(folder, FolderMode); err != nil {
		return nil, fmt.Errorf("make %s in store %s: %w", folder, s.Name, err)
	}
	root, err := whole.OpenRoot(folder)
	if err != nil {
		return nil, fmt.Errorf("open %s in store %s: %w", folder, s.Name, err)
	}
	return root, nil
}
