package disk

import (
	"errors"
	"slices"

	"golang.org/x/sys/unix"
)

// notForFiles are the file systems through which the kernel shows itself (statfs(2)): what
// is read or written there is no file of anybody's.
var notForFiles = []int64{unix.PROC_SUPER_MAGIC, unix.SYSFS_MAGIC, unix.DEVPTS_SUPER_MAGIC, unix.CGROUP_SUPER_MAGIC, unix.CGROUP2_SUPER_MAGIC, unix.DEBUGFS_MAGIC,
	unix.TRACEFS_MAGIC, unix.SECURITYFS_MAGIC, unix.SELINUX_MAGIC, unix.BPF_FS_MAGIC, unix.PSTOREFS_MAGIC, unix.EFIVARFS_MAGIC, unix.HUGETLBFS_MAGIC, unix.BINFMTFS_MAGIC,
	unix.NSFS_MAGIC, unix.SOCKFS_MAGIC, unix.PIPEFS_MAGIC, unix.ANON_INODE_FS_MAGIC, 0x62656570 /* configfs */, 0x19800202 /* mqueue */, 0x65735543 /* fusectl */}

// ErrNotForFiles says that a file system is one of the kernel's own.
var ErrNotForFiles = errors.New("that file system is the kernel's own, and not for files")

// forFiles refuses an open file or folder that lies on a file system of the kernel's own.
func forFiles(fd int) error {
	var st unix.Statfs_t
	if err := again(func() error { return unix.Fstatfs(fd, &st) }); err != nil {
		return err
	}
	if slices.Contains(notForFiles, int64(st.Type)) {
		return ErrNotForFiles
	}
	return nil
}

// openBelow opens a name in a folder, or a path below one. The kernel says when that leads onto another
// file system that is mounted there: only then is it looked at, and one of the kernel's own refused.
func openBelow(dir int, rel string, how unix.OpenHow) (fd int, err error) {
	how.Flags |= unix.O_CLOEXEC
	inside := how
	inside.Resolve |= unix.RESOLVE_NO_XDEV
	if fd, err = unix.Openat2(dir, rel, &inside); err != unix.EXDEV {
		return fd, err
	}
	if fd, err = unix.Openat2(dir, rel, &how); err != nil {
		return fd, err
	}
	if err := forFiles(fd); err != nil {
		unix.Close(fd)
		return -1, err
	}
	return fd, nil
}
