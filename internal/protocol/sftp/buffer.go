package sftp

import "sync"

// Buffers come in three sizes, bytes: for what names a file or asks for data, for
// the data of a usual client (32 KiB a request), and for the largest packet.
const (
	smallBuffer  = 1 << 10
	mediumBuffer = 36 << 10
	largeBuffer  = replyHead + maxPacket
)

// replyHead is what a data reply has before its data, bytes.
const replyHead = 13

var pools = map[int]*sync.Pool{smallBuffer: {}, mediumBuffer: {}, largeBuffer: {}}

// buffer gives an empty buffer with room for at least size bytes.
func buffer(size int) []byte {
	room := largeBuffer
	switch {
	case size <= smallBuffer:
		room = smallBuffer
	case size <= mediumBuffer:
		room = mediumBuffer
	}
	if b, ok := pools[room].Get().(*[]byte); ok {
		return (*b)[:0]
	}
	return make([]byte, 0, room)
}

// release takes a buffer back; what did not come from a pool is left to the
// garbage collector.
func release(b []byte) {
	if pool, ok := pools[cap(b)]; ok {
		pool.Put(&b)
	}
}
