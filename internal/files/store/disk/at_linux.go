package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"urbankeep/internal/files/store"
)

// at is a folder by its descriptor, which was opened for nothing but to be named
// (O_PATH, open(2)): everything goes by the calls that take a descriptor and a name.
type at struct{ fd int }

// crossFlags make the kernel resolve a path below a folder without a link (openat2(2)).
const crossFlags = unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS

// noOpenat2 is set on kernels before 5.6, and where a sandbox forbids the call.
var noOpenat2 atomic.Bool

func openAt(name string) (store.Folder, error) {
	fd, err := unix.Open(name, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err == nil {
		if err = forFiles(fd); err != nil {
			unix.Close(fd)
		}
	}
	if err != nil {
		return nil, wrong("open", path.Base(name), err)
	}
	return &at{fd}, nil
}

func wrong(op, name string, err error) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, unix.ELOOP) {
		err = store.ErrLink
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// again repeats a call that a signal has interrupted.
func again(do func() error) error {
	for {
		if err := do(); err != unix.EINTR {
			return err
		}
	}
}

func (f *at) Lookup(name string) (fs.FileInfo, error) {
	if err := store.Itself("lookup", name); err != nil {
		return nil, err
	}
	info, err := f.lookup(name)
	if err != nil {
		return nil, err
	}
	return info, nil
}

func (f *at) lookup(name string) (*facts, error) {
	info := &facts{name: name}
	err := again(func() error { return unix.Fstatat(f.fd, name, &info.st, unix.AT_SYMLINK_NOFOLLOW) })
	return info, wrong("lookup", name, err)
}

func (f *at) Enter(name string) (store.Folder, error) {
	if err := store.Single("enter", name); err != nil {
		return nil, err
	}
	var fd int
	err := again(func() (err error) {
		fd, err = f.openOne(name, unix.O_PATH|unix.O_DIRECTORY, 0)
		return err
	})
	if err == unix.ENOTDIR { // a link too
		if info, look := f.lookup(name); look == nil && info.Mode()&fs.ModeSymlink != 0 {
			err = unix.ELOOP
		}
	}
	if err != nil {
		return nil, wrong("enter", name, err)
	}
	return &at{fd}, nil
}

// openOne opens a single name, which is no link.
func (f *at) openOne(name string, flag int, mode uint32) (fd int, err error) {
	if !noOpenat2.Load() {
		how := unix.OpenHow{Flags: uint64(flag | unix.O_NOFOLLOW), Resolve: crossFlags}
		if flag&unix.O_CREAT != 0 {
			how.Mode = uint64(mode)
		}
		switch fd, err = openBelow(f.fd, name, how); err {
		case unix.ENOSYS, unix.EPERM:
			noOpenat2.Store(err == unix.ENOSYS)
		default:
			return fd, err
		}
	}
	fd, err = unix.Openat(f.fd, name, flag|unix.O_NOFOLLOW|unix.O_CLOEXEC, mode)
	if err == nil {
		if err = forFiles(fd); err != nil {
			unix.Close(fd)
		}
	}
	return fd, err
}

func (f *at) Cross(rel string) (store.Folder, error) {
	if noOpenat2.Load() {
		return store.Step(f, rel)
	}
	how := unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: crossFlags}
	for {
		fd, err := openBelow(f.fd, rel, how)
		switch err {
		case nil:
			return &at{fd}, nil
		case unix.EINTR, unix.EAGAIN: // something on the way was moved meanwhile
		case unix.ENOSYS, unix.EPERM:
			noOpenat2.Store(true)
			return store.Step(f, rel)
		default:
			return nil, wrong("cross", path.Base(rel), err)
		}
	}
}

func (f *at) Open(name string, flag int, mode fs.FileMode) (store.File, error) {
	if err := store.Single("open", name); err != nil {
		return nil, err
	}
	fresh := flag&os.O_CREATE != 0 && flag&os.O_EXCL != 0 // then it is a plain file
	if !fresh {
		flag |= unix.O_NONBLOCK
	}
	var fd int
	err := again(func() (err error) {
		fd, err = f.openOne(name, flag, uint32(mode.Perm()))
		return err
	})
	if err != nil {
		return nil, wrong("open", name, err)
	}
	if !fresh {
		if err := unix.SetNonblock(fd, false); err != nil {
			unix.Close(fd)
			return nil, wrong("open", name, err)
		}
	}
	return os.NewFile(uintptr(fd), name), nil
}

func (f *at) Mkdir(name string, mode fs.FileMode) error {
	if err := store.Single("mkdir", name); err != nil {
		return err
	}
	return wrong("mkdir", name, again(func() error { return unix.Mkdirat(f.fd, name, uint32(mode.Perm())) }))
}

func (f *at) Remove(name string, folder bool) error {
	if err := store.Single("remove", name); err != nil {
		return err
	}
	flags := 0
	if folder {
		flags = unix.AT_REMOVEDIR
	}
	return wrong("remove", name, again(func() error { return unix.Unlinkat(f.fd, name, flags) }))
}

func (f *at) Rename(name string, to store.Folder, target string, replace bool) error {
	into, err := f.pair("rename", name, to, target)
	if err != nil {
		return err
	}
	if replace {
		return wrong("rename", name, again(func() error { return unix.Renameat(f.fd, name, into.fd, target) }))
	}
	err = again(func() error { return unix.Renameat2(f.fd, name, into.fd, target, unix.RENAME_NOREPLACE) })
	if err == unix.EINVAL || err == unix.ENOSYS { // the file system can't; a second name is as good for a file
		if info, look := f.lookup(name); look == nil && info.IsDir() {
			if _, look := into.lookup(target); look == nil {
				return wrong("rename", name, unix.EEXIST)
			}
			return wrong("rename", name, again(func() error { return unix.Renameat(f.fd, name, into.fd, target) }))
		}
		if err = unix.Linkat(f.fd, name, into.fd, target, 0); err == nil {
			err = unix.Unlinkat(f.fd, name, 0)
		}
	}
	return wrong("rename", name, err)
}

// pair checks both ends of what concerns two names.
func (f *at) pair(op, name string, to store.Folder, target string) (*at, error) {
	if err := errors.Join(store.Single(op, name), store.Single(op, target)); err != nil {
		return nil, err
	}
	into, same := to.(*at)
	if !same {
		return nil, wrong(op, name, unix.EXDEV)
	}
	return into, nil
}

func (f *at) SetTimes(name string, access, modified time.Time) error {
	if err := store.Itself("set times", name); err != nil {
		return err
	}
	return wrong("set times", name, again(func() error { return store.TimesAt(f.fd, name, access, modified, unix.AT_SYMLINK_NOFOLLOW) }))
}

func (f *at) SetMode(name string, mode fs.FileMode) error {
	if err := store.Itself("set mode", name); err != nil {
		return err
	}
	err := unix.Fchmodat(f.fd, name, uint32(mode.Perm()), unix.AT_SYMLINK_NOFOLLOW)
	if err != unix.EOPNOTSUPP && err != unix.ENOSYS && err != unix.EPERM {
		return wrong("set mode", name, err)
	}
	// Kernels before 6.6 can't: through the descriptor of what is there, once it is known to be no link.
	fd, err := unix.Openat(f.fd, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return wrong("set mode", name, err)
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil || st.Mode&unix.S_IFMT == unix.S_IFLNK {
		return wrong("set mode", name, errors.Join(err, unix.ELOOP))
	}
	return wrong("set mode", name, unix.Chmod("/proc/self/fd/"+strconv.Itoa(fd), uint32(mode.Perm())))
}

func (f *at) Link(name string, to store.Folder, target string) error {
	into, err := f.pair("link", name, to, target)
	if err != nil {
		return err
	}
	return wrong("link", name, again(func() error { return unix.Linkat(f.fd, name, into.fd, target, 0) }))
}

func (f *at) Symlink(text, name string) error {
	if err := store.Single("symlink", name); err != nil {
		return err
	}
	return wrong("symlink", name, again(func() error { return unix.Symlinkat(text, f.fd, name) }))
}

// maxLink is the longest text of a link, bytes (PATH_MAX).
const maxLink = 4096

func (f *at) Readlink(name string) (string, error) {
	if err := store.Single("readlink", name); err != nil {
		return "", err
	}
	var buf [maxLink]byte
	n := 0
	err := again(func() (err error) { n, err = unix.Readlinkat(f.fd, name, buf[:]); return err })
	if err != nil {
		return "", wrong("readlink", name, err)
	}
	return string(buf[:n]), nil
}

func (f *at) Space() (store.Space, error) {
	var st unix.Statfs_t
	if err := again(func() error { return unix.Fstatfs(f.fd, &st) }); err != nil {
		return store.Space{}, err
	}
	block := uint64(st.Bsize)
	return store.Space{Bytes: st.Blocks * block, FreeBytes: st.Bavail * block, Unused: st.Bfree * block, Files: st.Files, FreeFiles: st.Ffree}, nil
}

func (f *at) Sync() error {
	fd, err := unix.Openat(f.fd, ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err == nil {
		err = errors.Join(again(func() error { return unix.Fsync(fd) }), unix.Close(fd))
	}
	return wrong("sync", ".", err)
}

func (f *at) Duplicate() (store.Folder, error) {
	fd, err := unix.FcntlInt(uintptr(f.fd), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, wrong("hold", ".", err)
	}
	return &at{fd}, nil
}

func (f *at) Close() error { return unix.Close(f.fd) }

func (f *at) Entries() (store.Entries, error) {
	fd, err := unix.Openat(f.fd, ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, wrong("list", ".", err)
	}
	return &entries{at{fd}}, nil
}

// entries reads a folder by its descriptor.
type entries struct{ at }

var readBuffers = sync.Pool{New: func() any { return new([store.LargeRead]byte) }}

func (e *entries) Next(buffer int) ([]fs.FileInfo, error) {
	buf := readBuffers.Get().(*[store.LargeRead]byte)
	defer readBuffers.Put(buf)
	for {
		n := 0
		err := again(func() (err error) { n, err = unix.ReadDirent(e.fd, buf[:min(buffer, store.LargeRead)]); return err })
		if err != nil {
			return nil, wrong("list", ".", err)
		}
		if n == 0 {
			return nil, io.EOF
		}
		_, _, names := unix.ParseDirent(buf[:n], -1, nil)
		room := make([]facts, len(names)) // one piece for all of them
		found := make([]fs.FileInfo, 0, len(names))
		for i, name := range names {
			one := &room[i]
			one.name = name
			err := again(func() error { return unix.Fstatat(e.fd, name, &one.st, unix.AT_SYMLINK_NOFOLLOW) })
			if err == unix.ENOENT {
				continue // it went meanwhile
			}
			if err != nil {
				return nil, wrong("list", name, err)
			}
			found = append(found, one)
		}
		if len(found) > 0 {
			slices.SortFunc(found, byName)
			return found, nil
		}
	}
}

// byName puts the names that are read at once in order: a folder that fits into one
// reading is sorted.
func byName(a, b fs.FileInfo) int { return strings.Compare(a.(*facts).name, b.(*facts).name) }

// facts are what is known of a name.
type facts struct {
	name string
	st   unix.Stat_t
}

func (f *facts) Name() string       { return f.name }
func (f *facts) Size() int64        { return f.st.Size }
func (f *facts) ModTime() time.Time { return time.Unix(f.st.Mtim.Unix()) }
func (f *facts) IsDir() bool        { return f.st.Mode&unix.S_IFMT == unix.S_IFDIR }

// Sys is a *[syscall.Stat_t], as the standard library has it: the two packages
// describe one structure of the kernel.
func (f *facts) Sys() any { return (*syscall.Stat_t)(unsafe.Pointer(&f.st)) }

var _ [unsafe.Sizeof(unix.Stat_t{})]byte = [unsafe.Sizeof(syscall.Stat_t{})]byte{}

func (f *facts) Mode() fs.FileMode {
	mode := fs.FileMode(f.st.Mode & 0o777)
	switch f.st.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		mode |= fs.ModeDir
	case unix.S_IFLNK:
		mode |= fs.ModeSymlink
	case unix.S_IFIFO:
		mode |= fs.ModeNamedPipe
	case unix.S_IFSOCK:
		mode |= fs.ModeSocket
	case unix.S_IFBLK:
		mode |= fs.ModeDevice
	case unix.S_IFCHR:
		mode |= fs.ModeDevice | fs.ModeCharDevice
	}
	return mode
}
