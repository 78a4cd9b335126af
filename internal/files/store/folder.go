package store

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"strings"
	"syscall"
	"time"
)

// Folder is one open folder of a store. Whoever holds it does things to single names
// in it: no call takes a path with a slash, but for [Folder.Cross], and none follows
// a symbolic link. So what was decided on a folder and a name is done to just that,
// whatever others do to the paths that lead there.
//
// The name "." is the folder itself, for Lookup, SetTimes and SetMode.
// Errors are those of the operating system, as [fs.PathError] with the name alone.
// What not every kind of store can do are interfaces of their own, found by
// assertion: [Linker], [Spacer], [Syncer].
type Folder interface {
	// Lookup gives the facts of a name, of a link its own.
	Lookup(name string) (fs.FileInfo, error)
	// Enter opens a folder in this one. The error is [ErrLink] when the name is a link.
	Enter(name string) (Folder, error)
	// Cross opens a folder some levels down, slash-separated; [ErrLink] when a link is on the way.
	Cross(rel string) (Folder, error)
	// Open opens a file with the flags of [os.OpenFile]; it never waits for a pipe's other
	// end. The error is [ErrLink] when the name is a link.
	Open(name string, flag int, mode fs.FileMode) (File, error)
	// Mkdir makes a folder with just this mode.
	Mkdir(name string, mode fs.FileMode) error
	// Remove removes an empty folder, or anything else.
	Remove(name string, folder bool) error
	// Rename moves a name to another, of an open folder of the same kind. Without replace
	// a taken name is refused, whoever races: [fs.ErrExist].
	Rename(name string, to Folder, target string, replace bool) error
	// SetTimes sets the times that are not zero.
	SetTimes(name string, access, modified time.Time) error
	SetMode(name string, mode fs.FileMode) error
	// Entries reads the folder from its beginning.
	Entries() (Entries, error)
	Close() error
}

// Entries are the names of a folder, as they come.
type Entries interface {
	// Next gives the facts of some more of them, as many as are read with one call to
	// the system into a buffer of so many bytes; [io.EOF] after the last. It keeps
	// nothing between two calls but an open folder.
	Next(buffer int) ([]fs.FileInfo, error)
	Close() error
}

// File is an open file. Where it is an [os.File] the kernel moves its bytes.
type File interface {
	io.Reader
	io.Writer
	io.Seeker
	io.ReaderAt
	io.WriterAt
	io.Closer
	Stat() (fs.FileInfo, error)
	Truncate(size int64) error
	Chmod(mode fs.FileMode) error
	Sync() error
}

// Whole is a file of a store in which what appears under a name is whole: what is written
// to it appears when it ends. Close alone drops it.
type Whole interface {
	File
	// End closes the file. With whole, all that was written is under its name when End
	// returns, on the medium if lasting; else the store keeps as much as it can make use of.
	// Afterwards Stat tells what is under the name, [fs.ErrNotExist] when nothing is.
	End(whole, lasting bool) error
}

// End closes a file that was written, see [Whole].
func End(f File, whole, lasting bool) (err error) {
	if w, is := f.(Whole); is {
		return w.End(whole, lasting)
	}
	if whole && lasting {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// Duplicator is a folder that can be held once more, until that is closed too.
type Duplicator interface {
	Duplicate() (Folder, error)
}

// Timed is an open file whose times can be set.
type Timed interface {
	SetTimes(access, modified time.Time) error
}

// Linker is a folder of a store that has links.
type Linker interface {
	// Link gives a file a second name, of an open folder of the same kind.
	Link(name string, to Folder, target string) error
	Symlink(text, name string) error
	Readlink(name string) (string, error)
}

// MovesByCopy is a folder of a store that moves a file by copying it on its side, and where what appears is whole: what is to
// appear is better written where it belongs.
type MovesByCopy interface{ MovesByCopy() }

// Syncer is a folder whose names can be brought to the medium.
type Syncer interface {
	Sync() error
}

// Sync brings the names in a folder to the medium, where the store can.
func Sync(f Folder) error {
	if s, can := f.(Syncer); can {
		return s.Sync()
	}
	return nil
}

// Spacer is a folder of a store that knows how much room there is.
type Spacer interface {
	Space() (Space, error)
}

// Space is how much a store holds and has left.
type Space struct {
	Bytes, FreeBytes uint64
	Unused           uint64 // FreeBytes, and what the system keeps back for itself
	Files, FreeFiles uint64
}

// SpaceOf is the space of a folder's store; [errors.ErrUnsupported] where it is not known.
func SpaceOf(f Folder) (Space, error) {
	if s, knows := f.(Spacer); knows {
		return s.Space()
	}
	return Space{}, errors.ErrUnsupported
}

// ErrLink says that a symbolic link was met where none is followed.
var ErrLink = errors.New("a symbolic link is there")

// Buffer sizes for [Entries.Next], in bytes: one for a client that asks for a reply at a
// time, whose lines then take less than the 34,000 bytes that any SFTP client reads; one for
// clients that are known to read 256 KiB, however names have to be spelled; one for reading
// right through.
const (
	SmallRead  = 7 << 10
	MediumRead = 20 << 10
	LargeRead  = 64 << 10
)

// Single refuses what is not one plain name.
func Single(op, name string) error {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") || len(name) > 0 && os.PathSeparator != '/' && strings.ContainsRune(name, os.PathSeparator) {
		return &fs.PathError{Op: op, Path: name, Err: syscall.EINVAL}
	}
	return nil
}

// Itself is Single for what may also be the folder itself.
func Itself(op, name string) error {
	if name == "." {
		return nil
	}
	return Single(op, name)
}

// Step crosses a path part by part.
func Step(f Folder, rel string) (Folder, error) {
	at, owned := f, false
	for part := range strings.SplitSeq(rel, "/") {
		next, err := at.Enter(part)
		if owned {
			at.Close()
		}
		if err != nil {
			return nil, err
		}
		at, owned = next, true
	}
	return at, nil
}

// Identity tells the files of a store apart that has no numbers for them; [fs.FileInfo.Sys]
// gives it.
type Identity struct{ Store, Path string }

// sameIdentity compares facts of which one has an identity of that kind.
func sameIdentity(a, b fs.FileInfo) (alike, told bool) {
	one, ok1 := a.Sys().(Identity)
	two, ok2 := b.Sys().(Identity)
	return ok1 && ok2 && one == two, ok1 || ok2
}

// Facts are those of a name in a store that isn't a folder of this machine.
type Facts struct {
	Named    string
	Bytes    int64
	Bits     fs.FileMode
	Modified time.Time
	ID       Identity
	Tag      string // changes with the content, as the store says; "": it says none
}

// Version is what the store says, else what can be seen.
func (f Facts) Version() (text string, certain bool) {
	if f.Tag != "" {
		return f.Tag, true
	}
	return plainVersion(f), false
}

func (f Facts) Name() string       { return f.Named }
func (f Facts) Size() int64        { return f.Bytes }
func (f Facts) Mode() fs.FileMode  { return f.Bits }
func (f Facts) ModTime() time.Time { return f.Modified }
func (f Facts) IsDir() bool        { return f.Bits.IsDir() }
func (f Facts) Sys() any           { return f.ID }

// Modes of the folders and files that the service makes: the service's own user
// and group, nobody else on the machine.
const (
	FolderMode fs.FileMode = 0o750
	FileMode   fs.FileMode = 0o640
)
