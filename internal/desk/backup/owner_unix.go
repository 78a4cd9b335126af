//go:build unix

package backup

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// give makes what was put into a folder belong to whom the folder belongs: who restores as
// root does it for the user that runs the service.
func give(dir string, names []string) error {
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	owner, ok := info.Sys().(*syscall.Stat_t)
	if !ok || os.Geteuid() != 0 {
		return nil
	}
	var errs []error
	for _, name := range names {
		errs = append(errs, filepath.WalkDir(filepath.Join(dir, name), func(file string, _ fs.DirEntry, err error) error {
			return errors.Join(err, os.Lchown(file, int(owner.Uid), int(owner.Gid)))
		}))
	}
	return errors.Join(errs...)
}
