package disk

import "urbankeep/internal/files/store"

// Open opens a folder of the machine.
func Open(name string) (store.Folder, error) { return openFolder(name) }
