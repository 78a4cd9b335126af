package store

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"urbankeep/internal/keep"
)

// MarkName is the file that marks a store's own folder. No account sees it.
const MarkName = ".urbankeep-store"

const markText = "This folder is a store of urbankeep. Leave this file here: by its number the service knows that the right disk is mounted.\nnumber "

// maxMark bounds what is read of a mark, bytes.
const maxMark = 1024

// ErrAway says that a store's folder is not the one that was founded: its disk is not
// mounted, or another one is.
var ErrAway = errors.New("its disk is not where it should be")

// away is ErrAway as sessions are told of it.
func away(s keep.Store, why string) error {
	return &keep.Fault{Reason: keep.StoreAway, Say: "the files of this account can't be reached now: tell the administrator that the store " + s.Name + " is away",
		Cause: fmt.Errorf("store %s: %w: %s", s.Name, ErrAway, why)}
}

// Mark marks a store's folder and gives the number. A folder that has a number keeps it.
func Mark(s keep.Store) (number string, err error) {
	name := filepath.Join(s.Folder, MarkName)
	if number, err = readMark(name); err == nil {
		return number, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("the mark of the store can't be read: %w", err)
	}
	number = rand.Text()
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, FileMode)
	if err != nil {
		return "", fmt.Errorf("the folder can't be marked: %w", err)
	}
	_, err = f.WriteString(markText + number + "\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", fmt.Errorf("the folder can't be marked: %w", errors.Join(err, os.Remove(name)))
	}
	folder, err := openFolder(s.Folder)
	if err != nil {
		return "", err
	}
	return number, errors.Join(Sync(folder), folder.Close())
}

// readMark reads a mark's number; no link is followed.
func readMark(name string) (number string, err error) {
	folder, err := openFolder(filepath.Dir(name))
	if err != nil {
		return "", err
	}
	defer folder.Close()
	return markOf(folder)
}

func markOf(folder Folder) (number string, err error) {
	f, err := folder.Open(MarkName, os.O_RDONLY, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text := make([]byte, maxMark)
	n, err := f.Read(text)
	if err != nil {
		return "", err
	}
	_, number, found := strings.Cut(string(text[:n]), "\nnumber ")
	if number = strings.TrimSpace(number); !found || number == "" {
		return "", errors.New("it holds no number")
	}
	return number, nil
}

// whole opens a store's own folder, if it is the one that was founded.
func whole(s keep.Store) (Folder, error) {
	folder, err := openFolder(s.Folder)
	if err != nil || s.Mark == "" {
		if errors.Is(err, fs.ErrNotExist) && s.Mark != "" {
			err = away(s, s.Folder+" does not exist")
		}
		return folder, err
	}
	number, err := markOf(folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		err = away(s, "there is no "+MarkName+" in "+s.Folder)
	case err != nil:
		err = away(s, MarkName+" in "+s.Folder+" can't be read: "+err.Error())
	case number != s.Mark:
		err = away(s, MarkName+" in "+s.Folder+" has the number of another store")
	default:
		return folder, nil
	}
	folder.Close()
	return nil, err
}

// Check says what keeps a store from being used, nil when nothing does.
func Check(s keep.Store) error {
	folder, err := whole(s)
	if err != nil {
		return err
	}
	return folder.Close()
}
