//go:build !unix

package service

// openFiles is how many files the process may have open.
func openFiles() int { return 1 << 14 }
