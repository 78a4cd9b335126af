package mover

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/store"
)

// Tally is what a walk met and did. It may be read while that goes on.
type Tally struct {
	Files, Bytes             atomic.Int64 // that are there
	Copied, CopiedBytes      atomic.Int64
	Same, Removed, LinksLeft atomic.Int64
}

// Mover brings one folder to another.
type Mover struct {
	From, To store.Folder
	Tally    *Tally
	Lasting  bool                        // what is copied is on the medium before it is verified
	Touched  func() func(at string) bool // asked at the beginning of each pass: what may have changed unseen since the last

	verified map[[16]byte]uint64 // of paths: which version of the file was brought
	touched  func(at string) bool
}

// maxVerified bounds the files of which it is remembered that they were brought; the others are compared once more.
const maxVerified = 1 << 22

// brought is what is remembered of a path and a version.
func brought(at, version string) ([16]byte, uint64) {
	sum, is := sha256.Sum256([]byte(at)), sha256.Sum256([]byte(version))
	return [16]byte(sum[:16]), binary.LittleEndian.Uint64(is[:])
}

var buffers = sync.Pool{New: func() any { return new([256 << 10]byte) }}

// Count walks what is there, and gives how many names can't be brought: they are neither files nor
// folders, nor links where the other store has links.
func (m *Mover) Count(ctx context.Context) (left int64, err error) {
	_, links := m.To.(store.Linker)
	err = walk(ctx, m.From, ".", func(_ string, _ store.Folder, info fs.FileInfo) error {
		switch {
		case info.Mode().IsRegular():
			m.Tally.Files.Add(1)
			m.Tally.Bytes.Add(info.Size())
		case !info.IsDir() && !(links && info.Mode()&fs.ModeSymlink != 0):
			left++
		}
		return nil
	})
	return left, err
}

// walk goes through all names below a folder, but for those of the service.
func walk(ctx context.Context, folder store.Folder, at string, do func(at string, in store.Folder, info fs.FileInfo) error) error {
	return names(ctx, folder, at, func(info fs.FileInfo) error {
		name := path.Join(at, info.Name())
		if err := do(name, folder, info); err != nil || !info.IsDir() {
			return err
		}
		inner, err := folder.Enter(info.Name())
		if err != nil {
			return gone(err)
		}
		defer inner.Close()
		return walk(ctx, inner, name, do)
	})
}

// gone forgives that a name went while it was looked at.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func names(ctx context.Context, folder store.Folder, at string, do func(fs.FileInfo) error) error {
	entries, err := folder.Entries()
	if err != nil {
		return err
	}
	defer entries.Close()
	for {
		found, err := entries.Next(store.LargeRead)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for _, info := range found {
			if err := ctx.Err(); err != nil {
				return err
			}
			if at == "." && store.Reserved(info.Name()) {
				continue
			}
			if err := do(info); err != nil {
				return fmt.Errorf("%s: %w", path.Join(at, info.Name()), err)
			}
		}
	}
}

// Pass copies what the other side doesn't have yet as it is here. With exact, what is there only goes: for
// the last pass, when nobody changes anything.
func (m *Mover) Pass(ctx context.Context, exact bool) error {
	m.touched = m.Touched()
	return m.pass(ctx, m.From, m.To, ".", exact)
}

func (m *Mover) pass(ctx context.Context, from, to store.Folder, at string, exact bool) error {
	seen := map[string]bool{}
	err := names(ctx, from, at, func(info fs.FileInfo) error {
		seen[info.Name()] = true
		switch {
		case info.IsDir():
			return m.folder(ctx, from, to, at, info, exact)
		case info.Mode().IsRegular():
			return gone(m.file(ctx, from, to, at, info))
		case info.Mode()&fs.ModeSymlink != 0:
			return gone(m.link(from, to, info.Name()))
		}
		return nil
	})
	if err != nil || !exact {
		return err
	}
	return names(ctx, to, at, func(info fs.FileInfo) error {
		if seen[info.Name()] {
			return nil
		}
		m.Tally.Removed.Add(1)
		return remove(ctx, to, info)
	})
}

// remove removes a name and all below it.
func remove(ctx context.Context, in store.Folder, info fs.FileInfo) error {
	if !info.IsDir() {
		return in.Remove(info.Name(), false)
	}
	inner, err := in.Enter(info.Name())
	if err != nil {
		return err
	}
	defer inner.Close()
	if err := names(ctx, inner, info.Name(), func(one fs.FileInfo) error { return remove(ctx, inner, one) }); err != nil {
		return err
	}
	return in.Remove(info.Name(), true)
}

func (m *Mover) folder(ctx context.Context, from, to store.Folder, at string, info fs.FileInfo, exact bool) error {
	name := info.Name()
	inner, err := from.Enter(name)
	if err != nil {
		return gone(err)
	}
	defer inner.Close()
	if there, err := to.Lookup(name); err == nil && !there.IsDir() {
		if err := to.Remove(name, false); err != nil {
			return err
		}
	}
	if err := to.Mkdir(name, info.Mode().Perm()); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	into, err := to.Enter(name)
	if err != nil {
		return err
	}
	defer into.Close()
	return m.pass(ctx, inner, into, path.Join(at, name), exact)
}

func (m *Mover) link(from, to store.Folder, name string) error {
	here, can1 := from.(store.Linker)
	there, can2 := to.(store.Linker)
	if !can1 || !can2 {
		m.Tally.LinksLeft.Add(1)
		return nil
	}
	text, err := here.Readlink(name)
	if err != nil {
		return err
	}
	if now, err := there.Readlink(name); err == nil && now == text {
		return nil
	}
	if err := to.Remove(name, false); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return there.Symlink(text, name)
}

// ErrDiffers says that other bytes came back than were written.
var ErrDiffers = errors.New("other bytes came back than were written")

// file brings a file, unless just this version of it was brought already. One that has the size of what is there is read on both
// sides first: neither its time nor its size says that it is the same.
func (m *Mover) file(ctx context.Context, from, to store.Folder, in string, listed fs.FileInfo) error {
	name := listed.Name()
	info, err := from.Lookup(name) // lists may know less
	if err != nil {
		return err
	}
	at := path.Join(in, name)
	version, _ := store.Version(info)
	key, is := brought(at, version)
	there, err := to.Lookup(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case there.Mode().IsRegular() && there.Size() == info.Size():
		was, known := m.verified[key]
		alike := known && was == is && !m.touched(at)
		if !alike {
			if alike, err = equal(ctx, from, to, name); err != nil {
				return err
			}
		}
		if alike {
			m.Tally.Same.Add(1)
			m.remember(key, is)
			return facts(to, name, info, there)
		}
		err = to.Remove(name, false)
	default:
		err = remove(ctx, to, there)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	sum, err := m.copy(ctx, from, to, name, info)
	if err != nil {
		return err
	}
	again, err := hashOf(ctx, to, name)
	if err != nil {
		return err
	}
	if again != sum {
		return ErrDiffers
	}
	m.Tally.Copied.Add(1)
	m.remember(key, is)
	return to.SetTimes(name, time.Time{}, info.ModTime())
}

func (m *Mover) remember(key [16]byte, is uint64) {
	if m.verified == nil {
		m.verified = map[[16]byte]uint64{}
	}
	if len(m.verified) < maxVerified {
		m.verified[key] = is
	} else if _, known := m.verified[key]; known {
		m.verified[key] = is
	}
}

// facts gives what has the right content the right time and mode too.
func facts(to store.Folder, name string, info, there fs.FileInfo) error {
	if info.Mode().Perm() != there.Mode().Perm() {
		if err := to.SetMode(name, info.Mode().Perm()); err != nil && !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	if info.ModTime().Truncate(time.Second).Equal(there.ModTime().Truncate(time.Second)) {
		return nil
	}
	return to.SetTimes(name, time.Time{}, info.ModTime())
}

func (m *Mover) copy(ctx context.Context, from, to store.Folder, name string, info fs.FileInfo) (sum [sha256.Size]byte, err error) {
	in, err := from.Open(name, os.O_RDONLY, 0)
	if err != nil {
		return sum, err
	}
	defer in.Close()
	out, err := to.Open(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, info.Mode().Perm())
	if err != nil {
		return sum, err
	}
	sum, err = pour(ctx, out, in, &m.Tally.CopiedBytes)
	return sum, errors.Join(err, store.End(out, err == nil, m.Lasting))
}

func hashOf(ctx context.Context, in store.Folder, name string) (sum [sha256.Size]byte, err error) {
	f, err := in.Open(name, os.O_RDONLY, 0)
	if err != nil {
		return sum, err
	}
	defer f.Close()
	return pour(ctx, io.Discard, f, nil)
}

// equal reports whether a file has the same content on both sides.
func equal(ctx context.Context, from, to store.Folder, name string) (bool, error) {
	one, err := hashOf(ctx, from, name)
	if err != nil {
		return false, err
	}
	two, err := hashOf(ctx, to, name)
	return one == two, err
}

// pour copies to the end and gives the hash.
func pour(ctx context.Context, w io.Writer, r io.Reader, count *atomic.Int64) (sum [sha256.Size]byte, err error) {
	buf := buffers.Get().(*[256 << 10]byte)
	defer buffers.Put(buf)
	h := sha256.New()
	for {
		n, err := r.Read(buf[:])
		h.Write(buf[:n])
		if n > 0 {
			if _, werr := w.Write(buf[:n]); werr != nil {
				return sum, werr
			}
			if count != nil {
				count.Add(int64(n))
			}
		}
		if err == io.EOF {
			return [sha256.Size]byte(h.Sum(nil)), nil
		}
		if err = errors.Join(err, ctx.Err()); err != nil {
			return sum, err
		}
	}
}
