package tree

import (
	"context"
	"hash"
	"io"

	"urbankeep/internal/keep"
)

// Digest asks for hashes of a file or a part of it.
type Digest struct {
	New    func() hash.Hash
	From   int64                  // where to begin, bytes
	Length int64                  // bytes; 0: to the end
	Block  int64                  // a hash for each so many bytes; 0: one for all
	Stop   context.Context        // ends it early
	Sum    func(sum []byte) error // takes the hashes in order
}

// Digest hashes what a clean path leads to, which takes the right to download it.
func (t *Tree) Digest(at string, d Digest) error {
	return t.act(keep.Hashing, at, "", func() error {
		f, err := t.openFile(at, OpenMode{Read: true}, func(*place) error { return nil })
		if err != nil {
			return err
		}
		defer f.f.Close()
		return d.of(t, f.f)
	})
}

// Digest hashes the open file.
func (f *File) Digest(d Digest) error {
	if !f.mode.Read {
		return keep.Refuse(keep.BadRequest, "the file was not opened for reading")
	}
	return f.t.act(keep.Hashing, f.path, "", func() error { return d.of(f.t, f.f) })
}

func (d Digest) of(t *Tree, file io.ReaderAt) error {
	return t.Heavy(d.Stop, func() error { return d.work(file) })
}

func (d Digest) work(file io.ReaderAt) error {
	length := d.Length
	if length == 0 {
		length = 1<<62 - d.From
	}
	in := io.NewSectionReader(file, d.From, length)
	buf := buffers.Get().(*[256 << 10]byte)
	defer buffers.Put(buf)
	sum, filled, any := d.New(), int64(0), false
	for {
		part := buf[:]
		if d.Block > 0 {
			part = part[:min(int64(len(part)), d.Block-filled)]
		}
		n, err := in.Read(part)
		sum.Write(part[:n])
		filled += int64(n)
		if ended := err == io.EOF; err != nil && !ended {
			return err
		} else if d.Block > 0 && filled == d.Block || ended && (filled > 0 || !any) {
			if err := d.Sum(sum.Sum(nil)); err != nil {
				return err
			}
			sum.Reset()
			filled, any = 0, true
		}
		switch {
		case err == io.EOF:
			return nil
		case d.Stop.Err() != nil:
			return keep.Refuse(keep.ClientGone, "the client left")
		}
	}
}
