//go:build !linux

package records

import "os"

// SyncData brings what a file holds to the medium, and of its facts what reading it needs.
func SyncData(f *os.File) error { return f.Sync() }
