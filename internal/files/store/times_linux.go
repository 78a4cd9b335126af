package store

import (
	"errors"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// FileTimes sets the times that are not zero of an open file, whatever its name is by
// now; [errors.ErrUnsupported] where the system has no call for it.
func FileTimes(f File, access, modified time.Time) error {
	file, isOS := f.(*os.File)
	if !isOS {
		return errors.ErrUnsupported
	}
	raw, err := file.SyscallConn()
	if err != nil {
		return err
	}
	stamps := []unix.Timespec{stamp(access), stamp(modified)}
	var set error
	if err := raw.Control(func(fd uintptr) { set = unix.UtimesNanoAt(int(fd), "", stamps, unix.AT_EMPTY_PATH) }); err != nil {
		return err
	}
	if set == unix.EINVAL || set == unix.ENOENT { // before Linux 5.8
		return errors.ErrUnsupported
	}
	return wrong("set times", file.Name(), set)
}
