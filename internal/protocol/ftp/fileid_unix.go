//go:build unix

package ftp

import (
	"fmt"
	"io/fs"
	"syscall"
)

// fileID is what the fact "unique" tells (RFC 3659, section 7.5.2).
func fileID(info fs.FileInfo) string {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprintf("%xg%x", st.Dev, st.Ino)
	}
	return ""
}
