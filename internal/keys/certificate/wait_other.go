//go:build !unix

package certificate

// noWait keeps the opening of a pipe from waiting for its other end.
const noWait = 0
