package sftp

import (
	"encoding/binary"
	"io/fs"
	"strconv"
	"time"
)

// old is from when on a long name tells the year in place of the time of day.
const old = 180 * 24 * time.Hour

// longName adds a line as ls -l prints it, in the form that section 7 recommends. It is
// made for every entry of every listing, so it is put together in place.
func (e *encoder) longName(info fs.FileInfo, owner string, now time.Time) {
	at := len(e.b)
	e.uint32(0)
	mode := info.Mode()
	kind := byte('-')
	switch {
	case mode.IsDir():
		kind = 'd'
	case mode&fs.ModeSymlink != 0:
		kind = 'l'
	}
	e.b = append(e.b, kind)
	const letters = "rwxrwxrwx"
	for i := range letters {
		letter := letters[i]
		if mode&(1<<(8-i)) == 0 {
			letter = '-'
		}
		e.b = append(e.b, letter)
	}
	e.b = append(e.b, "    1 "...)
	e.padded(owner)
	e.padded(owner)
	var digits [20]byte
	size := strconv.AppendInt(digits[:0], info.Size(), 10)
	for n := len(size); n < 8; n++ {
		e.b = append(e.b, ' ')
	}
	e.b = append(append(e.b, size...), ' ')
	form := "Jan _2 15:04 "
	when := info.ModTime().UTC()
	if now.Sub(when) > old {
		form = "Jan _2  2006 "
	}
	e.b = when.AppendFormat(e.b, form)
	e.b = append(e.b, info.Name()...)
	binary.BigEndian.PutUint32(e.b[at:], uint32(len(e.b)-at-4))
}

// padded adds a name and spaces up to its column's end.
func (e *encoder) padded(name string) {
	e.b = append(e.b, name...)
	for n := len(name); n < 8; n++ {
		e.b = append(e.b, ' ')
	}
	e.b = append(e.b, ' ')
}
