package checkup

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/disk"
	"urbankeep/internal/keep"
)

const (
	// littleSpace and noSpace are when free space is worth a warning, and a fault, bytes.
	littleSpace = 1 << 30
	noSpace     = 64 << 20
)

// Folder looks at the data folder: whether others may read it, and its room. Stores that
// lie in it are looked at by [Stores].
func Folder(dir string, stores []keep.Store) (f Findings) {
	if runtime.GOOS != "windows" { // which knows no such modes
		f = append(f, modes(dir, stores)...)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		f.Add("data-folder", "", Fault, "see that the user of the service owns it", "%s can't be opened: %v", dir, err)
		return f
	}
	root.Close()
	return append(f, Space("data-folder", "", dir)...)
}

func modes(dir string, stores []keep.Store) (f Findings) {
	var open []string
	filepath.WalkDir(dir, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if entry.IsDir() && slices.ContainsFunc(stores, func(s keep.Store) bool { return s.Folder == name }) {
			return fs.SkipDir
		}
		info, err := entry.Info()
		if err != nil || !secret(dir, name) {
			return nil
		}
		if info.Mode().Perm()&0o077 != 0 {
			open = append(open, fmt.Sprintf("%s (%04o)", name, info.Mode().Perm()))
		}
		return nil
	})
	if len(open) > 0 {
		f.Add("data-folder", "", Fault, "chmod -R go= "+dir+" (but leave the stores in it as they are)", "others on this machine may read what must stay secret: %s", named(open))
	} else {
		f.Add("data-folder", "", Fine, "", "%s and the secrets in it are readable by the service's own user only", dir)
	}
	return f
}

// secret reports whether a file of the data folder must be for its owner alone.
func secret(dir, name string) bool {
	below, err := filepath.Rel(dir, name)
	if err != nil {
		return false
	}
	base := filepath.Base(below)
	top, _, deeper := strings.Cut(below, string(filepath.Separator))
	return below == "." || deeper && ((top == "hostkeys" || top == "tls") && strings.HasSuffix(base, ".pem") || top == "storekeys") || !deeper && slices.ContainsFunc(secrets, func(prefix string) bool { return strings.HasPrefix(base, prefix) })
}

// secrets are how the files at the top of the data folder begin that hold secrets.
var secrets = []string{"urbankeep.db", "audit.key", "audit.journal", "control.sock", "credentials"}

// Stores says of each store that is there whether it takes writes, and what room it has.
func Stores(stores []keep.Store, health func(keep.Store) (closed error, room store.Space)) (f Findings) {
	for _, s := range stores {
		closed, room := health(s)
		switch {
		case closed != nil:
			f.Add("store", s.Name, Fault, "see why: a full disk, one that is mounted read-only, rights of the user that runs the service or of the other side", "%s can't be written: %v", s.Where(), closed)
		case s.Local():
			f.Add("store", s.Name, Fine, "", "%s is there and can be written", s.Folder)
		default:
			f.Add("store", s.Name, Fine, "", "%s can be reached", s.Where())
		}
		if s.Local() && room.Bytes > 0 {
			f = append(f, Room("store", s.Name, s.Folder, room)...)
		}
	}
	return f
}

// Space says whether the disk on which a folder lies has room.
func Space(check, of, dir string) (f Findings) {
	folder, err := disk.Open(dir)
	if err != nil {
		return f
	}
	defer folder.Close()
	now, err := store.SpaceOf(folder)
	if err != nil || now.Bytes == 0 {
		return f
	}
	return Room(check, of, dir, now)
}

// Room says whether there is some.
func Room(check, of, dir string, now store.Space) (f Findings) {
	free := keep.SaySize(int64(now.FreeBytes))
	switch {
	case now.FreeBytes < noSpace:
		f.Add(check, of, Fault, "make room: without it nothing is taken in, and nothing is recorded", "%s has %s left", dir, free)
	case now.FreeBytes < littleSpace && now.FreeBytes < now.Bytes/20:
		f.Add(check, of, Warning, "make room soon", "%s has %s left of %s", dir, free, keep.SaySize(int64(now.Bytes)))
	case now.Files > 0 && now.FreeFiles < now.Files/50:
		f.Add(check, of, Warning, "make room soon: a file system has only so many files", "%s can hold only %d more files", dir, now.FreeFiles)
	default:
		f.Add(check, of, Fine, "", "%s has %s left", dir, free)
	}
	return f
}
