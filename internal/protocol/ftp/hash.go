package ftp

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"hash"
	"hash/crc32"
	"strconv"
	"strings"

	"urbankeep/internal/files/tree"
)

// hashes are the algorithms of HASH, by the names of
// draft-bryan-ftpext-hash-02, section 3.4.
var hashes = []struct {
	name string
	make func() hash.Hash
}{
	{"SHA-256", sha256.New}, {"SHA-512", sha512.New}, {"SHA-1", sha1.New}, {"MD5", md5.New},
	{"CRC32", func() hash.Hash { return crc32.NewIEEE() }},
}

// usualHash is the one that counts until OPTS HASH names another.
const usualHash = "SHA-256"

// hashFeature is the line of FEAT, with the current algorithm marked (section 3.1).
func (c *conn) hashFeature() string {
	names := make([]string, len(hashes))
	for i, h := range hashes {
		names[i] = h.name
		if h.name == c.hash {
			names[i] += "*"
		}
	}
	return "HASH " + strings.Join(names, ";")
}

// optsHash is section 3.2.
func (c *conn) optsHash(name string) error {
	for _, h := range hashes {
		if strings.EqualFold(h.name, name) {
			c.hash = h.name
		} else if name != "" {
			continue
		}
		c.reply(200, c.hash)
		return nil
	}
	return fail{501, "that hash is not known here; FEAT lists the ones that are"}
}

// cmdHash is section 3.3: the hash of a file, or of the part that RANG named.
func (c *conn) cmdHash(arg string) error {
	from, to := c.takeRange()
	return c.sum(c.hash, arg, from, to, func(part string, sum []byte) {
		c.reply(213, fmt.Sprintf("%s %s %x %s", c.hash, part, sum, arg))
	})
}

// cmdOld makes a command of the time before HASH, which is named for its algorithm. Clients send
// the path, in quotes or not, and some the first byte and the one behind the last.
func cmdOld(algorithm string) func(*conn, string) error {
	return func(c *conn, arg string) error {
		from, to := int64(0), int64(-1)
		if name, rest, quoted := strings.Cut(strings.TrimPrefix(arg, `"`), `"`); quoted && strings.HasPrefix(arg, `"`) {
			arg = name
			if words := strings.Fields(rest); len(words) > 0 {
				var err1, err2 error
				from, err1 = strconv.ParseInt(words[0], 10, 64)
				if len(words) > 1 {
					to, err2 = strconv.ParseInt(words[1], 10, 64)
					to--
				}
				if err1 != nil || err2 != nil || from < 0 || to < -1 {
					return fail{501, `use "path" first last, in bytes`}
				}
			}
		}
		return c.sum(algorithm, arg, from, to, func(_ string, sum []byte) { c.reply(250, fmt.Sprintf("%X", sum)) })
	}
}

// sum hashes a part of a file and has tell answer with it; to is -1 for the end.
func (c *conn) sum(algorithm, arg string, from, to int64, tell func(part string, sum []byte)) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	info, err := c.tree.Stat(at)
	if err != nil {
		return err
	}
	end := info.Size() - 1
	if to >= 0 {
		end = min(end, to)
	}
	d := tree.Digest{From: from, Length: end + 1 - from}
	for _, h := range hashes {
		if h.name == algorithm {
			d.New = h.make
		}
	}
	var sum []byte
	d.Sum = func(s []byte) error { sum = s; return nil }
	if d.Length <= 0 {
		d.From, d.Length = info.Size(), 1 // nothing is left to hash
	}
	err = c.attended(nil, func(ctx context.Context) error {
		d.Stop = ctx
		return c.tree.Digest(at, d)
	})
	if err != nil {
		c.finish(err)
		return nil
	}
	tell(fmt.Sprintf("%d-%d", from, max(from, end+1)), sum)
	return nil
}

// cmdRang names the part of the next file that RETR or HASH is about, both ends
// included (draft-bryan-ftp-range-08, section 3); "RANG 1 0" forgets it.
func (c *conn) cmdRang(arg string) error {
	first, last, _ := strings.Cut(arg, " ")
	from, err1 := strconv.ParseInt(first, 10, 64)
	to, err2 := strconv.ParseInt(last, 10, 64)
	switch {
	case err1 != nil || err2 != nil || from < 0 || to < 0:
		return fail{501, "use RANG first last, in bytes"}
	case from == 1 && to == 0:
		c.restart, c.rangeTo = 0, -1
		c.reply(350, "the next transfer is of the whole file")
		return nil
	case from > to:
		return fail{501, "the first byte comes before the last"}
	case c.ascii:
		return fail{504, "a part of a file needs TYPE I"}
	}
	c.restart, c.rangeTo = from, to
	c.reply(350, fmt.Sprintf("the next transfer is of the bytes %d to %d", from, to))
	return nil
}

// takeRange gives what REST or RANG said, once; to is -1 for the end.
func (c *conn) takeRange() (from, to int64) {
	from, to = c.restart, c.rangeTo
	c.restart, c.rangeTo = 0, -1
	return from, to
}
