//go:build unix

package service

import "syscall"

// openFiles is how many files the process may have open.
func openFiles() int {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil || limit.Cur > 1<<20 {
		return 1 << 20
	}
	return int(limit.Cur)
}
