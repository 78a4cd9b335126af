//go:build !linux

package store

import "io/fs"

// Version stands for the content of a file as its store tells it: it is another one after each change. It is certain where no
// change can go unnoticed, by whomever, as by what a store of objects says.
func Version(info fs.FileInfo) (text string, certain bool) {
	if v, is := info.(Versioned); is {
		return v.Version()
	}
	return plainVersion(info), false
}

// Changed is when a file was changed last, as nobody can set it.
func Changed(fs.FileInfo) (nanoseconds int64, known bool) { return 0, false }
