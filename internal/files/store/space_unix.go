//go:build unix

package store

import (
	"os"

	"golang.org/x/sys/unix"
)

// SpaceOf asks the file system below an opened folder.
func SpaceOf(root *os.Root) (Space, error) {
	dir, err := root.Open(".")
	if err != nil {
		return Space{}, err
	}
	defer dir.Close()
	var st unix.Statfs_t
	if err := unix.Fstatfs(int(dir.Fd()), &st); err != nil {
		return Space{}, err
	}
	block := uint64(st.Bsize)
	return Space{Bytes: st.Blocks * block, FreeBytes: uint64(st.Bavail) * block, Files: uint64(st.Files), FreeFiles: uint64(st.Ffree)}, nil
}
