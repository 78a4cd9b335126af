package backup

import (
	"archive/tar"
	"bufio"
	"compress/gzip"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"
	"filippo.io/age/armor"
)

// What a backup may unpack to is bounded while it is unpacked: one that was made to fill the
// disk is refused long before it does.
const (
	maxManifest = 64 << 20  // bytes
	maxSecret   = 1 << 20   // of a key or a certificate, bytes
	maxFiles    = 100_000   // in one backup
	freely      = 256 << 20 // bytes that may come out whatever went in
	maxRatio    = 60        // bytes that may come out for each that went in, beyond that; a database gives about ten
)

// bounded counts what goes in and comes out of a backup.
type bounded struct {
	from  io.Reader
	in    int64
	out   int64
	files int
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	b.in += int64(n)
	return n, err
}

// Write takes note of what comes out.
func (b *bounded) Write(p []byte) (int, error) {
	if b.out += int64(len(p)); b.out > freely+maxRatio*b.in {
		return 0, errBomb
	}
	return len(p), nil
}

var errBomb = errors.New("more comes out of it than any backup holds")

// Unlock gives what opens an encrypted backup. It is asked only when one is.
type Unlock func() ([]age.Identity, error)

// Unpack reads a backup into an empty folder and holds it to its manifest. Nothing but that
// folder is touched; after an error it is of no use.
func Unpack(r io.Reader, into string, unlock Unlock) (m Manifest, err error) {
	bound := &bounded{from: r}
	plain, err := opened(bound, unlock)
	if err != nil {
		return m, err
	}
	unpacked, err := gzip.NewReader(plain)
	if err != nil {
		return m, fmt.Errorf("this is no backup of urbankeep: %w", err)
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return m, err
	}
	defer root.Close()
	have := map[string]File{}
	for in := tar.NewReader(unpacked); ; {
		head, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return m, broken(err)
		}
		if head.Name == manifestName {
			if err := json.NewDecoder(io.LimitReader(in, maxManifest)).Decode(&m); err != nil {
				return m, broken(err)
			}
			continue
		}
		if head.Typeflag != tar.TypeReg || !known(head.Name) {
			return m, fmt.Errorf("the backup holds %q, which no backup holds: nothing was restored", head.Name)
		}
		if bound.files++; bound.files > maxFiles || secret(head.Name) && head.Size > maxSecret {
			return m, broken(errBomb)
		}
		if have[head.Name], err = extract(root, head.Name, io.TeeReader(in, bound)); err != nil {
			return m, broken(err)
		}
	}
	return m, m.agrees(have)
}

// broken says that a backup can't be read to its end.
func broken(err error) error {
	return fmt.Errorf("the backup is damaged or cut short, so nothing was restored: %w", err)
}

// agrees holds what was unpacked to the manifest.
func (m *Manifest) agrees(have map[string]File) error {
	if m.Format != format {
		if m.Format == "" {
			return broken(errors.New("its manifest is missing"))
		}
		return fmt.Errorf("the backup has the form %q, this program knows %q: restore it with the program that made it", m.Format, format)
	}
	if _, ok := have[database]; !ok || len(have) != len(m.Files) {
		return broken(errors.New("it does not hold what its manifest says"))
	}
	for _, f := range m.Files {
		if have[f.Name] != f {
			return broken(fmt.Errorf("%s is not as it was written", f.Name))
		}
	}
	return nil
}

// known reports whether a backup may hold an entry: no other name gets near the disk.
func known(name string) bool {
	top, _, _ := strings.Cut(name, "/")
	return path.Clean(name) == name && (name == database || slices.Contains(parts, top))
}

// secret reports whether an entry is a key or a certificate, which are small.
func secret(name string) bool {
	return name == "audit.key" || strings.HasPrefix(name, "hostkeys/") || strings.HasPrefix(name, "storekeys/") || strings.HasPrefix(name, "tls/")
}

func extract(root *os.Root, name string, in io.Reader) (File, error) {
	if dir := path.Dir(name); dir != "." {
		if err := root.MkdirAll(filepath.FromSlash(dir), 0o700); err != nil {
			return File{}, err
		}
	}
	out, err := root.OpenFile(filepath.FromSlash(name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return File{}, err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, sum), in)
	return File{name, n, hexOf(sum)}, errors.Join(err, out.Close())
}

// opened takes the encryption off, if there is one.
func opened(r io.Reader, unlock Unlock) (io.Reader, error) {
	in := bufio.NewReader(r)
	begin, _ := in.Peek(len(armor.Header))
	var locked io.Reader = in
	switch {
	case strings.HasPrefix(string(begin), "age-encryption.org/"):
	case string(begin) == armor.Header:
		locked = armor.NewReader(in)
	default:
		return in, nil
	}
	keys, err := unlock()
	if err != nil {
		return nil, err
	}
	plain, err := age.Decrypt(locked, keys...)
	if err != nil {
		return nil, fmt.Errorf("the backup can't be decrypted: %w: give the passphrase or identity that it was made for", err)
	}
	return plain, nil
}
