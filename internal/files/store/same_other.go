//go:build !unix

package store

import (
	"io/fs"
	"os"
)

// Same reports whether two facts are of one file.
func Same(a, b fs.FileInfo) bool { return os.SameFile(a, b) }
