package store

import (
	"errors"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// FileTimes sets the times that are not zero of an open file, whatever its name is by
// now; [errors.ErrUnsupported] where the system has no call for it.
func FileTimes(f File, access, modified time.Time) error {
	if own, can := f.(Timed); can {
		return own.SetTimes(access, modified)
	}
	file, isOS := f.(*os.File)
	if !isOS {
		return errors.ErrUnsupported
	}
	raw, err := file.SyscallConn()
	if err != nil {
		return err
	}
	var set error
	if err := raw.Control(func(fd uintptr) { set = TimesAt(int(fd), "", access, modified, unix.AT_EMPTY_PATH) }); err != nil {
		return err
	}
	if set == unix.EINVAL || set == unix.ENOENT { // before Linux 5.8
		return errors.ErrUnsupported
	}
	if set != nil {
		return &fs.PathError{Op: "set times", Path: file.Name(), Err: set}
	}
	return nil
}

// TimesAt sets the times that are not zero of a name in an open folder (utimensat(2)).
func TimesAt(fd int, name string, access, modified time.Time, flags int) error {
	return unix.UtimesNanoAt(fd, name, []unix.Timespec{stamp(access), stamp(modified)}, flags)
}

func stamp(t time.Time) unix.Timespec {
	if t.IsZero() {
		return unix.Timespec{Nsec: unix.UTIME_OMIT}
	}
	return unix.NsecToTimespec(t.UnixNano())
}
