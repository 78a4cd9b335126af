//go:build unix

package ftp

import (
	"io/fs"
	"strconv"
	"syscall"
)

// fileID is what the fact "unique" tells (RFC 3659, section 7.5.2).
func fileID(to []byte, info fs.FileInfo) []byte {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return strconv.AppendUint(append(strconv.AppendUint(to, uint64(st.Dev), 16), 'g'), st.Ino, 16)
	}
	return to
}
