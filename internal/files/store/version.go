package store

import (
	"io/fs"
	"strconv"
)

// Versioned are facts that know the version of a file themselves.
type Versioned interface {
	Version() (text string, certain bool)
}

// plainVersion is what tells the versions of a file apart where there is nothing better.
func plainVersion(info fs.FileInfo) string {
	return strconv.FormatInt(info.ModTime().UnixNano(), 36) + "-" + strconv.FormatInt(info.Size(), 36)
}
