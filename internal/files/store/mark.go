package store

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"urbankeep/internal/keep"
)

// MarkName is the file that marks a store's own folder. No account sees it.
const MarkName = ".urbankeep-store"

// SpoolName is the folder of a store in which files lie that are not whole yet. No account sees it.
const SpoolName = ".urbankeep-spool"

// PartPrefix begins the names of uploads that are not whole yet, in whatever folder they are to appear.
const PartPrefix = ".urbankeep-part-"

// BinPrefix begins the names of what was deleted and can be put back, in the folder of its mount.
const BinPrefix = ".urbankeep-bin-"

// HeldPrefix begins the names of uploads that wait for their check, in the folder where they are to appear.
const HeldPrefix = ".urbankeep-held-"

// AsidePrefix begins the names of what is put aside in its own folder while something takes its place, StagePrefix those of
// copies in the making.
const AsidePrefix, StagePrefix = ".urbankeep-aside-", ".urbankeep-stage-"

// Hidden reports whether a name is that of an upload that is not whole yet or waits for its check, of what was deleted and can be put back, or of
// what is put aside or is being made. No account sees or says it.
func Hidden(name string) bool {
	return begins(name, PartPrefix) || begins(name, BinPrefix) || begins(name, HeldPrefix) || begins(name, AsidePrefix) || begins(name, StagePrefix)
}

func begins(name, prefix string) bool {
	return len(name) >= len(prefix) && strings.EqualFold(name[:len(prefix)], prefix)
}

// ProbeName is the file with which the service tries whether a store takes writes.
const ProbeName = ".urbankeep-probe"

// Reserved reports whether a name in a store's own folder belongs to the service.
func Reserved(name string) bool {
	return strings.EqualFold(name, MarkName) || strings.EqualFold(name, SpoolName) || strings.EqualFold(name, ProbeName)
}

const markText = "This folder is a store of urbankeep. Leave this file here: by its number the service knows that the right disk is mounted.\nnumber "

// maxMark bounds what is read of a mark, bytes.
const maxMark = 1024

// ErrAway says that a store's folder is not the one that was founded, or can't be reached: its disk is not
// mounted, or another one is.
var ErrAway = errors.New("it is not where it should be")

// Away is ErrAway as sessions are told of it.
func Away(s keep.Store, why string) error {
	return &keep.Fault{Reason: keep.StoreAway, Say: "the files of this account can't be reached now: tell the administrator that the store " + s.Name + " is away",
		Cause: fmt.Errorf("store %s: %w: %s", s.Name, ErrAway, why)}
}

// Mark marks a store's own folder and gives the number. A folder that has a number keeps it.
func Mark(folder Folder) (number string, err error) {
	if number, err = MarkOf(folder); err == nil {
		return number, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("the mark of the store can't be read: %w", err)
	}
	number = rand.Text()
	f, err := folder.Open(MarkName, os.O_CREATE|os.O_EXCL|os.O_WRONLY, FileMode)
	if err != nil {
		return "", fmt.Errorf("the folder can't be marked: %w", err)
	}
	_, err = io.WriteString(f, markText+number+"\n")
	if err = errors.Join(err, End(f, err == nil, true)); err != nil {
		return "", fmt.Errorf("the folder can't be marked: %w", errors.Join(err, folder.Remove(MarkName, false)))
	}
	return number, Sync(folder)
}

// MarkOf reads the number of a store's own folder; no link is followed.
func MarkOf(folder Folder) (number string, err error) {
	f, err := folder.Open(MarkName, os.O_RDONLY, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text := make([]byte, maxMark)
	n, err := f.ReadAt(text, 0)
	if err != nil && err != io.EOF {
		return "", err
	}
	_, number, found := strings.Cut(string(text[:n]), "\nnumber ")
	if number = strings.TrimSpace(number); !found || number == "" {
		return "", errors.New("it holds no number")
	}
	return number, nil
}

// Marked says why a folder is not the one that a store's mark is of.
func Marked(s keep.Store, folder Folder, where string) error {
	number, err := MarkOf(folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return Away(s, "there is no "+MarkName+" in "+where)
	case err != nil:
		var fault *keep.Fault // what clients may hear; operators hear the cause
		if errors.As(err, &fault) && fault.Cause != nil {
			err = fault.Cause
		}
		return Away(s, MarkName+" in "+where+" can't be read: "+err.Error())
	case number != s.Mark:
		return Away(s, MarkName+" in "+where+" has the number of another store")
	}
	return nil
}
