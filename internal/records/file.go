package records

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
)

// WriteFile puts a secret file (0600) under its name once it is whole and on the medium,
// file and folder both: neither the end of the process nor of the power leaves a part of it.
func WriteFile(name string, text []byte) error {
	f, err := os.OpenFile(name+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(name + ".new")
		return err
	}
	if err := os.Rename(name+".new", name); err != nil {
		return err
	}
	return SyncFolder(filepath.Dir(name))
}

// SyncFolder brings the names in a folder to the medium, where the system can.
func SyncFolder(name string) error {
	if runtime.GOOS == "windows" { // which opens no folders
		return nil
	}
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
