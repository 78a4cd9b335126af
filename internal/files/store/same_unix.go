//go:build unix

package store

import (
	"io/fs"
	"syscall"
)

// Same reports whether two facts are of one file.
func Same(a, b fs.FileInfo) bool {
	if alike, told := sameIdentity(a, b); told {
		return alike
	}
	one, ok1 := a.Sys().(*syscall.Stat_t)
	two, ok2 := b.Sys().(*syscall.Stat_t)
	return ok1 && ok2 && one.Dev == two.Dev && one.Ino == two.Ino
}

// Number tells a file of a disk from others by its number; known is false for files of other stores.
func Number(info fs.FileInfo) (number [2]uint64, known bool) {
	st, known := info.Sys().(*syscall.Stat_t)
	if !known {
		return number, false
	}
	return [2]uint64{uint64(st.Dev), uint64(st.Ino)}, true
}
