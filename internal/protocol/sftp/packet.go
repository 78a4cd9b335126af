package sftp

import (
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"time"

	"urbankeep/internal/files/store"
)

// Packet types (draft-ietf-secsh-filexfer-02, section 3).
const (
	pktInit     = 1
	pktVersion  = 2
	pktOpen     = 3
	pktClose    = 4
	pktRead     = 5
	pktWrite    = 6
	pktLstat    = 7
	pktFstat    = 8
	pktSetstat  = 9
	pktFsetstat = 10
	pktOpendir  = 11
	pktReaddir  = 12
	pktRemove   = 13
	pktMkdir    = 14
	pktRmdir    = 15
	pktRealpath = 16
	pktStat     = 17
	pktRename   = 18
	pktReadlink = 19
	pktSymlink  = 20
	pktStatus   = 101
	pktHandle   = 102
	pktData     = 103
	pktName     = 104
	pktAttrs    = 105
	pktExtended = 200
	pktReply    = 201 // extended reply
)

// Status codes (section 7).
const (
	statusOK          = 0
	statusEOF         = 1
	statusNoSuchFile  = 2
	statusDenied      = 3
	statusFailure     = 4
	statusBadMessage  = 5
	statusUnsupported = 8
)

// Open flags (section 6.3).
const (
	openRead   = 0x01
	openWrite  = 0x02
	openAppend = 0x04
	openCreate = 0x08
	openTrunc  = 0x10
	openExcl   = 0x20
)

// Attribute flags (section 5).
const (
	attrSize     = 0x01
	attrUIDGID   = 0x02
	attrMode     = 0x04
	attrTimes    = 0x08
	attrExtended = 0x80000000
)

const (
	// maxPacket bounds a packet in either direction, bytes. Common clients stay
	// below it; a longer one ends the session before anything is allocated.
	maxPacket = 256 << 10
	// maxData is the most bytes that one READ gives or one WRITE brings.
	maxData = maxPacket - 1024
)

var (
	errPacketTooLong = errors.New("the packet is longer than allowed")
	errShort         = errors.New("the packet ends too early")
)

// readSize reads the length of a packet, bytes.
func readSize(r io.Reader) (int, error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, err
	}
	size := binary.BigEndian.Uint32(head[:])
	switch {
	case size > maxPacket:
		return 0, errPacketTooLong
	case size == 0:
		return 0, errShort
	}
	return int(size), nil
}

// readPacket reads the rest of a packet into a pooled buffer.
func readPacket(r io.Reader, size int) ([]byte, error) {
	buf := buffer(size)[:size]
	if _, err := io.ReadFull(r, buf); err != nil {
		release(buf)
		return nil, err
	}
	return buf, nil
}

// decoder takes fields off a packet. After the first that is not there, err is
// set and everything is zero.
type decoder struct {
	b   []byte
	err error
}

func (d *decoder) take(n uint32) []byte {
	if d.err != nil || uint64(n) > uint64(len(d.b)) {
		d.err = errShort
		return nil
	}
	part := d.b[:n]
	d.b = d.b[n:]
	return part
}

func (d *decoder) uint32() uint32 {
	if part := d.take(4); part != nil {
		return binary.BigEndian.Uint32(part)
	}
	return 0
}

func (d *decoder) uint64() uint64 {
	if part := d.take(8); part != nil {
		return binary.BigEndian.Uint64(part)
	}
	return 0
}

func (d *decoder) bytes() []byte  { return d.take(d.uint32()) }
func (d *decoder) string() string { return string(d.bytes()) }

// attributes are what a client wants set (section 5). Nil fields stay as they are.
type attributes struct {
	size     *uint64
	owner    *[2]uint32 // the numbers of user and group
	mode     *fs.FileMode
	special  bool // the mode had bits besides those of rwxrwxrwx
	access   time.Time
	modified time.Time
}

func (d *decoder) attributes() attributes {
	var a attributes
	flags := d.uint32()
	if flags&attrSize != 0 {
		size := d.uint64()
		a.size = &size
	}
	if flags&attrUIDGID != 0 {
		a.owner = &[2]uint32{d.uint32(), d.uint32()}
	}
	if flags&attrMode != 0 {
		bits := d.uint32()
		mode := fs.FileMode(bits) & fs.ModePerm
		a.mode, a.special = &mode, bits&0o7000 != 0
	}
	if flags&attrTimes != 0 {
		a.access = time.Unix(int64(d.uint32()), 0)
		a.modified = time.Unix(int64(d.uint32()), 0)
	}
	if flags&attrExtended != 0 {
		for n := d.uint32(); n > 0 && d.err == nil; n-- {
			d.bytes()
			d.bytes()
		}
	}
	return a
}

// encoder builds a packet in place; finish fills in its length.
type encoder struct{ b []byte }

func (e *encoder) start(kind byte, id uint32) {
	e.b = append(e.b[:0], 0, 0, 0, 0, kind)
	e.uint32(id)
}
func (e *encoder) uint32(v uint32) { e.b = binary.BigEndian.AppendUint32(e.b, v) }
func (e *encoder) uint64(v uint64) { e.b = binary.BigEndian.AppendUint64(e.b, v) }
func (e *encoder) string(s string) {
	e.uint32(uint32(len(s)))
	e.b = append(e.b, s...)
}

func (e *encoder) finish() []byte {
	binary.BigEndian.PutUint32(e.b, uint32(len(e.b)-4))
	return e.b
}

// File type bits of a mode, as POSIX has them.
const (
	modeFolder = 0o040000
	modeFile   = 0o100000
	modeLink   = 0o120000
)

func (e *encoder) attributes(info fs.FileInfo) {
	mode := uint32(info.Mode().Perm())
	switch {
	case info.IsDir():
		mode |= modeFolder
	case info.Mode()&fs.ModeSymlink != 0:
		mode |= modeLink
	case info.Mode().IsRegular():
		mode |= modeFile
	}
	read, user, group, known := store.More(info)
	if !known {
		e.uint32(attrSize | attrMode | attrTimes)
		read = info.ModTime()
	} else {
		e.uint32(attrSize | attrUIDGID | attrMode | attrTimes)
	}
	e.uint64(uint64(info.Size()))
	if known {
		e.uint32(user)
		e.uint32(group)
	}
	e.uint32(mode)
	e.uint32(uint32(max(0, read.Unix())))
	e.uint32(uint32(max(0, info.ModTime().Unix())))
}
