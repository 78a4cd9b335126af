//go:build unix

package quota

import (
	"io/fs"
	"syscall"
)

// fileID tells files apart, whatever their names.
type fileID struct {
	dev, ino uint64
	spot     Spot
}

// identify gives a file's identity and how many names it has.
func identify(info fs.FileInfo, spot Spot) (fileID, uint64) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return fileID{spot: spot}, 1
	}
	return fileID{dev: uint64(st.Dev), ino: uint64(st.Ino)}, uint64(st.Nlink)
}
