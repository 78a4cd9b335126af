package audit

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// layout names the order and form of the fields that Digest covers. A change of
// either gets a new value, so that old records still verify with their own.
// A record without facts has the first.
const (
	layout        = "urbankeep audit 1"
	layoutOfFacts = "urbankeep audit 2"
)

// Genesis is what the first record of a trail carries as the digest before it.
var Genesis = make([]byte, sha256.Size)

// Digest is the SHA-256 of a record and the digest of the one before it.
func Digest(prev []byte, r *keep.AuditRecord) []byte {
	return digestOfEntry(encode(make([]byte, 0, 512), prev, r))
}

// digestOfEntry is the digest of a record that is encoded already.
func digestOfEntry(encoded []byte) []byte {
	sum := sha256.Sum256(encoded)
	return sum[:]
}

// recordFrame is more than a record's encoding takes beside the texts that anybody chooses, bytes.
// and the facts of a deed.
const recordFrame = 448

// encode appends what Digest covers. Every text goes in with its length, so that no two
// records share an encoding.
func encode(buf, prev []byte, r *keep.AuditRecord) []byte {
	text := func(s string) {
		buf = binary.AppendUvarint(buf, uint64(len(s)))
		buf = append(buf, s...)
	}
	number := func(n int64) { buf = binary.BigEndian.AppendUint64(buf, uint64(n)) }

	facts := r.Facts.Text()
	if facts == "" {
		text(layout)
	} else {
		text(layoutOfFacts)
	}
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
	if facts != "" {
		text(facts)
	}
	return buf
}

var errEncoding = errors.New("this is not a record of an audit trail")

// decode is encode's way back, with the digest.
func decode(buf []byte) (r records.ChainedRecord, err error) {
	sum := sha256.Sum256(buf)
	text := func() string {
		n, w := binary.Uvarint(buf)
		if w <= 0 || n > uint64(len(buf)-w) {
			buf, err = nil, errEncoding
			return ""
		}
		s := string(buf[w : w+int(n)])
		buf = buf[w+int(n):]
		return s
	}
	number := func() (n int64) {
		if len(buf) < 8 {
			buf, err = nil, errEncoding
			return 0
		}
		n, buf = int64(binary.BigEndian.Uint64(buf)), buf[8:]
		return n
	}

	form := text()
	if form != layout && form != layoutOfFacts {
		return r, errEncoding
	}
	r.Prev, r.Digest = []byte(text()), sum[:]
	r.Seq, r.At = number(), time.UnixMicro(number()).UTC()
	r.Account, r.Operator, r.Address, r.Protocol = text(), text(), text(), keep.Protocol(text())
	r.Encrypted = number() == 1
	r.Session, r.Action, r.Path, r.Target = text(), keep.Action(text()), text(), text()
	r.Offset, r.Bytes, r.Duration = number(), number(), time.Duration(number())*time.Microsecond
	r.Outcome, r.Reason, r.Detail = keep.Outcome(text()), keep.Reason(text()), text()
	if form == layoutOfFacts {
		facts, ok := keep.ReadFacts(text())
		if r.Facts = facts; !ok {
			err = errEncoding
		}
	}
	if len(buf) > 0 {
		err = errEncoding
	}
	return r, err
}
