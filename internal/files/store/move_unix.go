//go:build unix

package store

import (
	"os"
	"path"

	"golang.org/x/sys/unix"
)

// Move renames a name of one opened folder to a name of another. The folders of
// both are opened inside their roots; neither name is followed where it is a link.
// The error is [unix.EXDEV] when they lie on different file systems.
func Move(from *os.Root, name string, to *os.Root, target string) error {
	source, err := from.Open(path.Dir(name))
	if err != nil {
		return err
	}
	defer source.Close()
	into, err := to.Open(path.Dir(target))
	if err != nil {
		return err
	}
	defer into.Close()
	return unix.Renameat(int(source.Fd()), path.Base(name), int(into.Fd()), path.Base(target))
}
