//go:build !unix

package service

// setUmask does nothing where there is no umask: the data folder's own access
// rules hold.
func setUmask(mask int) int { return mask }
