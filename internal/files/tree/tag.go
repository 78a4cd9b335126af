package tree

import (
	"io/fs"
	"strconv"
	"time"

	"urbankeep/internal/files/store"
)

// Tag stands for the content of a file (RFC 9110, section 8.8.3): it is never the same after a change that went through this
// service. It is weak where another's change could go unnoticed: in a store that tells versions apart by times that anybody can set,
// and of a file that is just being written.
func (t *Tree) Tag(info fs.FileInfo) string {
	info = unnamed(info)
	text, certain := store.Version(info)
	if certain && !t.ledger.Writing(info) {
		return `"` + text + `"`
	}
	return `W/"` + text + "-" + strconv.FormatUint(t.ledger.Changes(), 36) + `"`
}

// lastTick is how long the clock of a file system may stand still: what changes twice in it has the same time both times.
const lastTick = 20 * time.Millisecond

// told has a file that was written in place, and whose version is still the one that it had when it was opened, get another: its
// time of change goes on.
func (f *File) told() {
	was, known := f.before, f.before != 0 && f.dirty.Load()
	for until := time.Now().Add(lastTick); known && time.Now().Before(until); time.Sleep(time.Millisecond) {
		info, err := f.f.Stat()
		if err != nil {
			return
		}
		if now, _ := store.Changed(info); now != was {
			return
		}
		if f.f.Chmod(info.Mode()&(fs.ModePerm|fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky)) != nil {
			return
		}
	}
}
