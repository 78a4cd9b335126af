//go:build !unix

package ftp

import "io/fs"

// fileID is unknown here; the fact "unique" is left out.
func fileID(to []byte, _ fs.FileInfo) []byte { return to }
