//go:build !linux

package store

// openFolder opens a folder of the machine.
func openFolder(name string) (Folder, error) { return openRooted(name) }
