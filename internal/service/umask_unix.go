//go:build unix

package service

import "syscall"

// setUmask sets the mode bits that new files don't get, and gives the old ones.
func setUmask(mask int) int { return syscall.Umask(mask) }
