//go:build !unix

package ftp

import "io/fs"

// fileID is unknown here; the fact "unique" is left out.
func fileID(fs.FileInfo) string { return "" }
