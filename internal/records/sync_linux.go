package records

import (
	"os"

	"golang.org/x/sys/unix"
)

// SyncData brings what a file holds to the medium, and of its facts what reading it needs.
func SyncData(f *os.File) error {
	raw, err := f.SyscallConn()
	if err != nil {
		return err
	}
	if ferr := raw.Control(func(fd uintptr) { err = unix.Fdatasync(int(fd)) }); ferr != nil {
		return ferr
	}
	return err
}
