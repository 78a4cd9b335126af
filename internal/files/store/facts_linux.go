package store

import (
	"io/fs"
	"syscall"
	"time"
)

// More is what some systems know of a file besides: when it was read last, and the numbers of its
// user and group.
func More(info fs.FileInfo) (read time.Time, user, group uint32, known bool) {
	st, known := info.Sys().(*syscall.Stat_t)
	if !known {
		return time.Time{}, 0, 0, false
	}
	return time.Unix(st.Atim.Unix()), st.Uid, st.Gid, true
}
