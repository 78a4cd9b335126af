//go:build !linux

package disk

import "urbankeep/internal/files/store"

// openFolder opens a folder of the machine.
func openFolder(name string) (store.Folder, error) { return openRooted(name) }
