package store

import (
	"io/fs"
	"strconv"
	"syscall"
)

// Version stands for the content of a file as its store tells it: it is another one after each change. It is certain where no
// change can go unnoticed, by whomever: a file's number and the time of its last change, which nobody can set, or what a store of
// objects says.
func Version(info fs.FileInfo) (text string, certain bool) {
	if v, is := info.(Versioned); is {
		return v.Version()
	}
	if st, is := info.Sys().(*syscall.Stat_t); is {
		return strconv.FormatUint(st.Ino, 36) + "-" + strconv.FormatInt(st.Ctim.Nano(), 36) + "-" + strconv.FormatInt(st.Size, 36), true
	}
	return plainVersion(info), false
}

// Changed is when a file was changed last, as nobody can set it.
func Changed(info fs.FileInfo) (nanoseconds int64, known bool) {
	st, known := info.Sys().(*syscall.Stat_t)
	if !known {
		return 0, false
	}
	return st.Ctim.Nano(), true
}
