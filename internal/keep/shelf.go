package keep

import (
	"fmt"
	"strings"
	"time"
	"unicode"
)

// ShelfKey is a key that is kept apart from accounts and attached to them: what changes of it changes for all of them.
type ShelfKey struct {
	Key             // its ID is that on the shelf, its AccountID 0
	Name     string // by which it is attached
	Owner    string // who has the private half
	Note     string
	Replaced time.Time // when another key took its place last; zero: never
	Accounts []string  // to which it is attached, by name
}

// maxOwner bounds the owner of a key on the shelf, bytes; MaxShelf the keys there.
const (
	maxOwner = 200
	MaxShelf = 5000
)

// Check reports what is wrong as a [*FieldError].
func (k *ShelfKey) Check() error {
	if err := CheckName("name", k.Name); err != nil {
		return err
	}
	for _, text := range []struct {
		field, value string
		most         int
	}{{"owner", k.Owner, maxOwner}, {"note", k.Note, maxNotes}} {
		if len(text.value) > text.most || strings.ContainsFunc(text.value, unicode.IsControl) {
			return &FieldError{text.field, fmt.Sprintf("use at most %d bytes, on one line", text.most)}
		}
	}
	return nil
}
