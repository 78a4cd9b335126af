package keep

import (
	"errors"
	"fmt"
	"strings"
)

// Rights is a set of rights. A single right is a set of one.
type Rights uint16

// The ten rights an account can hold on a path of its tree.
const (
	List      Rights = 1 << iota // see names and facts in a folder
	Download                     // read the bytes of a file
	Upload                       // create a file that was not there
	Overwrite                    // change the bytes of a file that was there
	Rename                       // move or rename; asked for at both ends
	Delete                       // remove a file
	Mkdir                        // make a folder
	Rmdir                        // remove an empty folder
	Touch                        // change times and modes
	Link                         // make symbolic and hard links
)

// Full is every right there is.
const Full = List | Download | Upload | Overwrite | Rename | Delete | Mkdir | Rmdir | Touch | Link

const (
	readOnly = List | Download
	dropOnly = Upload
	addOnly  = List | Download | Upload | Mkdir | Touch | Link
)

var rightNames = []string{"list", "download", "upload", "overwrite", "rename", "delete", "mkdir", "rmdir", "touch", "link"}

var bundles = []struct {
	name   string
	rights Rights
}{
	{"full", Full},
	{"add-only", addOnly},
	{"read-only", readOnly},
	{"drop-only", dropOnly},
}

// Has reports whether every right of want is in the set.
func (r Rights) Has(want Rights) bool { return r&want == want }

// Each gives the single rights of the set, in their fixed order.
func (r Rights) Each() []Rights {
	var each []Rights
	for i := range rightNames {
		if r&(1<<i) != 0 {
			each = append(each, 1<<i)
		}
	}
	return each
}

// Names lists the single rights of the set in their fixed order.
func (r Rights) Names() []string {
	var names []string
	for i, name := range rightNames {
		if r&(1<<i) != 0 {
			names = append(names, name)
		}
	}
	return names
}

// String gives the name of a bundle when the set is exactly one, else the
// rights joined by commas, "none" for the empty set. [ParseRights] reads it back.
func (r Rights) String() string {
	for _, b := range bundles {
		if r == b.rights {
			return b.name
		}
	}
	if r == 0 {
		return "none"
	}
	return strings.Join(r.Names(), ",")
}

// ParseRights reads a comma-separated list of rights and bundles, in any case. An
// empty one is refused: it says nothing.
func ParseRights(text string) (Rights, error) {
	var set Rights
	if strings.TrimSpace(text) == "" {
		return 0, errors.New("no right is named: say none to give nothing")
	}
	for word := range strings.SplitSeq(text, ",") {
		word = strings.ToLower(strings.TrimSpace(word))
		if word == "" || word == "none" {
			continue
		}
		one, ok := parseRight(word)
		if !ok {
			return 0, fmt.Errorf("unknown right %q: use the bundles full, add-only, read-only, drop-only or a list of %s",
				word, strings.Join(rightNames, ", "))
		}
		set |= one
	}
	return set, nil
}

// OneRight reads the name of a single right. The error is a [*FieldError].
func OneRight(field, name string) (Rights, error) {
	for i, known := range rightNames {
		if name == known {
			return 1 << i, nil
		}
	}
	return 0, &FieldError{field, fmt.Sprintf("%q is not a right: use one of %s", name, strings.Join(rightNames, ", "))}
}

func parseRight(word string) (Rights, bool) {
	for _, b := range bundles {
		if word == b.name {
			return b.rights, true
		}
	}
	for i, name := range rightNames {
		if word == name {
			return 1 << i, true
		}
	}
	return 0, false
}

// MarshalText writes the set as [Rights.String] does.
func (r Rights) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText reads what [ParseRights] reads.
func (r *Rights) UnmarshalText(text []byte) (err error) {
	*r, err = ParseRights(string(text))
	return err
}
