//go:build !unix

package store

import (
	"os"
	"syscall"
)

// Move is not possible here.
func Move(*os.Root, string, *os.Root, string) error { return syscall.EXDEV }
