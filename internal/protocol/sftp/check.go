package sftp

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"hash"
	"hash/crc32"
	"strings"

	"urbankeep/internal/files/tree"
)

// hashes are the algorithms of check-file, by the names that
// draft-ietf-secsh-filexfer-extensions-00, section 3, has for them.
var hashes = map[string]func() hash.Hash{
	"md5": md5.New, "sha1": sha1.New, "sha224": sha256.New224, "sha256": sha256.New, "sha384": sha512.New384, "sha512": sha512.New,
	"crc32": func() hash.Hash { return crc32.NewIEEE() },
}

// minBlock is the least block that a client may have hashed, bytes (section 3).
const minBlock = 256

func (r *request) checkHandle() error {
	f, err := r.file()
	if err != nil {
		return err
	}
	return r.check(f.Digest)
}

// checkName follows links, as the draft wants it.
func (r *request) checkName() error {
	at, err := r.path()
	if err != nil {
		return err
	}
	return r.check(func(d tree.Digest) error { return r.s.tree.Digest(at, d) })
}

// check hashes a range of a file, as a whole or block by block, with the first
// algorithm of the client's list that is known here.
func (r *request) check(digest func(tree.Digest) error) error {
	list, from, length, block := r.d.string(), r.d.uint64(), r.d.uint64(), r.d.uint32()
	switch {
	case r.d.err != nil:
		return nil
	case int64(from) < 0 || int64(length) < 0:
		return errBadMessage
	case block > 0 && block < minBlock:
		return status{statusFailure, "a block to be hashed has at least 256 bytes"}
	}
	name, algorithm := "", (func() hash.Hash)(nil)
	for word := range strings.SplitSeq(list, ",") {
		if algorithm = hashes[word]; algorithm != nil {
			name = word
			break
		}
	}
	if algorithm == nil {
		return status{statusFailure, "none of these hashes is known: use sha256, sha512, sha1, md5 or crc32"}
	}
	var out encoder
	out.start(pktReply, r.id)
	out.string("check-file")
	out.string(name)
	err := digest(tree.Digest{New: algorithm, From: int64(from), Length: int64(length), Block: int64(block), Stop: r.s.conn.ctx, Sum: func(sum []byte) error {
		if len(out.b)+len(sum) > maxPacket {
			return status{statusFailure, "too many blocks for one reply: ask for larger blocks or a part of the file"}
		}
		out.b = append(out.b, sum...)
		return nil
	}})
	if err == nil {
		r.out = out
	}
	return err
}
