package audit

import (
	"crypto/sha256"
	"encoding/binary"

	"urbankeep/internal/keep"
)

// layout names the order and form of the fields that Digest covers. A change of
// either gets a new value, so that old records still verify with their own.
const layout = "urbankeep audit 1"

// Genesis is what the first record of a trail carries as the digest before it.
var Genesis = make([]byte, sha256.Size)

// Digest is the SHA-256 of a record and the digest of the one before it. Every
// field goes in with its length, so that no two records share an encoding.
func Digest(prev []byte, r *keep.AuditRecord) []byte {
	buf := make([]byte, 0, 512)
	text := func(s string) {
		buf = binary.AppendUvarint(buf, uint64(len(s)))
		buf = append(buf, s...)
	}
	number := func(n int64) { buf = binary.BigEndian.AppendUint64(buf, uint64(n)) }

	text(layout)
	text(string(prev))
	number(r.Seq)
	number(r.At.UnixMicro())
	text(r.Account)
	text(r.Operator)
	text(r.Address)
	text(string(r.Protocol))
	if r.Encrypted {
		number(1)
	} else {
		number(0)
	}
	text(r.Session)
	text(string(r.Action))
	text(r.Path)
	text(r.Target)
	number(r.Offset)
	number(r.Bytes)
	number(r.Duration.Microseconds())
	text(string(r.Outcome))
	text(string(r.Reason))
	text(r.Detail)
	sum := sha256.Sum256(buf)
	return sum[:]
}
