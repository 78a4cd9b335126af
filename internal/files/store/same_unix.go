//go:build unix

package store

import (
	"io/fs"
	"syscall"
)

// Same reports whether two facts are of one file.
func Same(a, b fs.FileInfo) bool {
	one, ok1 := a.Sys().(*syscall.Stat_t)
	two, ok2 := b.Sys().(*syscall.Stat_t)
	return ok1 && ok2 && one.Dev == two.Dev && one.Ino == two.Ino
}
