package sftp

import (
	"bytes"
	"encoding/binary"
	"io"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
)

func TestALengthBeyondTheLimitIsRefusedBeforeAnythingIsRead(t *testing.T) {
	for _, size := range []uint32{maxPacket + 1, 1 << 31, 0xffffffff} {
		_, err := readOne(bytes.NewReader(binary.BigEndian.AppendUint32(nil, size)))
		assert.ErrorIs(t, err, errPacketTooLong)
	}
	_, err := readOne(bytes.NewReader(make([]byte, 4)))
	assert.ErrorIs(t, err, errShort)
}

func readOne(r io.Reader) ([]byte, error) {
	size, err := readSize(r)
	if err != nil {
		return nil, err
	}
	return readPacket(r, size)
}

func FuzzDecoder(f *testing.F) {
	f.Add([]byte{0, 0, 0, 5, 3, 0, 0, 0, 1})
	f.Add(binary.BigEndian.AppendUint32(nil, 0xffffffff))
	f.Add([]byte{0, 0, 0, 12, 9, 0, 0, 0, 1, 255, 255, 255, 255, 0, 0, 0})
	f.Fuzz(func(t *testing.T, in []byte) {
		packet, err := readOne(iotest.HalfReader(bytes.NewReader(in)))
		if err != nil {
			return
		}
		d := &decoder{b: packet[1:]}
		d.uint32()
		name := d.string()
		attrs := d.attributes()
		d.uint64()
		if d.err != nil && len(name) > len(in) {
			t.Fatal("a string longer than its packet")
		}
		if d.err == nil && attrs.mode != nil && *attrs.mode&^0o777 != 0 {
			t.Fatalf("mode %o", *attrs.mode)
		}
	})
}
