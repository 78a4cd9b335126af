package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Real is an absolute path of the machine without symbolic links; what is missing
// at its end stays as it is said.
func Real(folder string) (string, error) {
	if !filepath.IsAbs(folder) {
		return "", fmt.Errorf("%q is no absolute path of this machine: say where it is from the root on", folder)
	}
	folder = filepath.Clean(folder)
	rest := ""
	for at := folder; ; at = filepath.Dir(at) {
		real, err := filepath.EvalSymlinks(at)
		if err == nil {
			return filepath.Join(real, rest), nil
		}
		if !errors.Is(err, fs.ErrNotExist) || at == filepath.Dir(at) {
			return "", fmt.Errorf("%s can't be looked at: %w", folder, err)
		}
		rest = filepath.Join(filepath.Base(at), rest)
	}
}

// Contains reports whether a real path is a folder or below it.
func Contains(folder, at string) bool {
	rel, err := filepath.Rel(folder, at)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// Found makes a folder ready to be a store: below one of the grounds where there
// are any, apart from every other store and from the data folder, which holds
// secrets. The error is a sentence for operators.
func Found(folder string, grounds []string, others []keep.Store, data string) (string, error) {
	real, err := Real(folder)
	if err != nil {
		return "", err
	}
	inside := len(grounds) == 0
	for _, g := range grounds {
		inside = inside || Contains(g, real)
	}
	if !inside {
		return "", fmt.Errorf("%s is outside of the folders that stores may use (%s): choose one inside, or allow more (store grounds)", real, strings.Join(grounds, ", "))
	}
	if real == filepath.Dir(real) {
		return "", errors.New("the whole disk can't be a store: name a folder")
	}
	if data, err = filepath.Abs(data); err != nil {
		return "", err
	}
	if Contains(real, data) || Contains(data, real) {
		return "", errors.New("the data folder holds the records and keys of the service: choose a folder outside of it")
	}
	for _, s := range others {
		if s.Folder == "" {
			continue // it lies on no disk of this machine
		}
		if Contains(real, s.Folder) || Contains(s.Folder, real) {
			return "", fmt.Errorf("it overlaps with the store %s, %s: mount a folder of that store instead", s.Name, s.Folder)
		}
	}
	for _, own := range append([]string{"/proc", "/sys", "/dev", "/boot"}, filepath.SplitList(os.Getenv("RUNTIME_DIRECTORY"))...) {
		if Contains(own, real) || Contains(real, own) {
			return "", fmt.Errorf("%s belongs to the machine: choose a folder that is for files", own)
		}
	}
	if err := os.MkdirAll(real, store.FolderMode); err != nil {
		return "", fmt.Errorf("the folder can't be made: %w", err)
	}
	opened, err := openFolder(real)
	if err != nil {
		return "", fmt.Errorf("the folder can't be used: %w", err)
	}
	return real, opened.Close()
}
