//go:build unix

package certificate

import "syscall"

// noWait keeps the opening of a pipe from waiting for its other end.
const noWait = syscall.O_NONBLOCK
