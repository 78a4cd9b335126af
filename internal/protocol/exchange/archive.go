package exchange

import (
	"archive/tar"
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

const (
	// maxZipped bounds the files of one archive.
	maxZipped = 200_000
	// ListBuffer is with how much a folder is read at once, bytes.
	ListBuffer = 64 << 10
	// leftOutName is the entry that names what is not in an archive.
	leftOutName = "NOT INCLUDED.txt"
	// maxLeftOut bounds the names in it.
	maxLeftOut = 1000
)

// form is how an archive is written.
type form interface {
	folder(name string, info fs.FileInfo) error
	file(name string, modified time.Time, size int64) (io.Writer, error)
	Close() error
}

// zipForm stores what it is given as it is; it takes what is larger than 4 GiB too (zip64).
type zipForm struct{ *zip.Writer }

func (z zipForm) folder(name string, info fs.FileInfo) error {
	_, err := z.CreateHeader(&zip.FileHeader{Name: name + "/", Modified: info.ModTime()})
	return err
}

func (z zipForm) file(name string, modified time.Time, _ int64) (io.Writer, error) {
	return z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: modified})
}

// tarForm writes the sizes before the bytes: a file that is cut meanwhile breaks the archive.
type tarForm struct{ *tar.Writer }

func (t tarForm) folder(name string, info fs.FileInfo) error {
	return t.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: name + "/", Mode: 0o755, ModTime: info.ModTime(), Format: tar.FormatPAX})
}

func (t tarForm) file(name string, modified time.Time, size int64) (io.Writer, error) {
	return t, t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644, Size: size, ModTime: modified, Format: tar.FormatPAX})
}

// archive is one that is being sent.
type archive struct {
	ctx      context.Context
	deadline func(time.Time) error
	tree     *tree.Tree
	out      form
	files    int
	leftOut  []string
}

// Archive is what is to be sent as one: a folder, or some of what is in it.
type Archive struct {
	Kind  string   // "zip" or "tar"
	Title string   // its name without the ending
	At    string   // the folder, a clean path
	Names []string // in it; none: all that is in it
	Paths []string // instead of a folder: these, wherever they lie
}

// Archive sends one as it is read: nothing is kept on the way. Each file in it is a download of its own; what may not be
// had is named in the archive.
func (s *Files) Archive(w http.ResponseWriter, r *http.Request, one *Stay, what Archive) error {
	for _, name := range what.Names {
		if _, err := PathOf("/" + name); err != nil || name == "" || name == "." || name == ".." || strings.Contains(name, "/") {
			return keep.Refuse(keep.BadName, "a name in the folder is meant, without a slash")
		}
	}
	h := w.Header()
	h.Set("Content-Type", map[string]string{"zip": "application/zip", "tar": "application/x-tar"}[what.Kind])
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Content-Disposition", attachment(what.Title+"."+what.Kind))
	control := http.NewResponseController(w)
	defer stopWith(control.SetWriteDeadline, r.Context())()
	z := &archive{ctx: r.Context(), deadline: control.SetWriteDeadline, tree: one.Tree, out: zipForm{zip.NewWriter(w)}}
	if what.Kind == "tar" {
		z.out = tarForm{tar.NewWriter(w)}
	}
	var err error
	if len(what.Names)+len(what.Paths) == 0 {
		err = z.folder(what.At, "", 0)
	}
	names := map[string]bool{}
	for _, at := range what.Paths {
		base := path.Base(at)
		if at == "/" {
			base = what.Title
		}
		name := base
		for n := 2; names[name]; n++ {
			name = numbered(base, n)
		}
		if names[name] = true; err == nil {
			err = z.entry(at, name, 0)
		}
	}
	for _, name := range what.Names {
		if err == nil {
			err = z.entry(path.Join(what.At, name), name, 0)
		}
	}
	if err == nil {
		err = z.end()
	}
	if err != nil {
		panic(http.ErrAbortHandler) // the client sees that the archive is not whole
	}
	return nil
}

// entry puts a file or a folder into the archive, as name.
func (z *archive) entry(at, name string, depth int) error {
	info, err := z.tree.Lstat(at)
	switch {
	case err != nil:
		return z.without(name, err)
	case info.IsDir():
		if err := z.out.folder(safe(name), info); err != nil {
			return err
		}
		return z.folder(at, name+"/", depth+1)
	case !info.Mode().IsRegular():
		return z.without(name, keep.Refuse(keep.BadRequest, "it is a link"))
	}
	return z.file(at, name, info)
}

func (z *archive) folder(at, prefix string, depth int) error {
	if depth > tree.MaxDepth {
		return z.without(prefix, keep.Refuse(keep.BadRequest, "it lies too deep"))
	}
	listing, err := z.tree.ReadFolder(at)
	if err != nil {
		return z.without(prefix, err)
	}
	defer listing.Close()
	for {
		found, err := listing.Next(ListBuffer)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return z.without(prefix, err)
		}
		for _, info := range found {
			name := keep.Spell(info.Name())
			if err := z.entry(path.Join(at, name), prefix+name, depth); err != nil {
				return err
			}
		}
	}
}

func (z *archive) file(at, name string, info fs.FileInfo) error {
	if z.files++; z.files > maxZipped {
		return z.without(name, keep.Refuse(keep.BadRequest, fmt.Sprintf("an archive holds %d files at the most", maxZipped)))
	}
	f, err := z.tree.Open(at, tree.OpenMode{Read: true})
	if err != nil {
		return z.without(name, err)
	}
	if info, err = f.Stat(); err != nil {
		f.Abort(err)
		return z.without(name, err)
	}
	if err := f.Reserve(info.Size()); err != nil {
		f.Abort(err)
		return z.without(name, err)
	}
	defer stopWith(z.deadline, f.Ending())()
	w, err := z.out.file(safe(name), info.ModTime(), info.Size())
	if err == nil {
		err = f.SendTo(w, 0, info.Size())
	}
	if err == nil {
		err = z.ctx.Err()
	}
	if ended := f.Ended(); ended != nil {
		f.Abort(ended)
		return ended
	}
	if err != nil {
		f.Abort(keep.Refuse(keep.ClientGone, "the client left before the file was whole"))
		return err
	}
	return f.Close()
}

// without notes what is not in the archive. What ends the answer is an error.
func (z *archive) without(name string, err error) error {
	if z.ctx.Err() != nil {
		return z.ctx.Err()
	}
	var fault *keep.Fault
	if !errors.As(err, &fault) {
		return err
	}
	if len(z.leftOut) < maxLeftOut {
		z.leftOut = append(z.leftOut, name+": "+fault.Say)
	}
	return nil
}

func (z *archive) end() error {
	if len(z.leftOut) > 0 {
		text := strings.Join(z.leftOut, "\r\n") + "\r\n"
		w, err := z.out.file(leftOutName, time.Now(), int64(len(text)))
		if err == nil {
			_, err = io.WriteString(w, text)
		}
		if err != nil {
			return err
		}
	}
	return z.out.Close()
}

// safe is a name of an archive that stays in the folder in which it is unpacked, on every system: without backslashes, which
// separate folders on some, and without a drive.
func safe(name string) string {
	name = strings.ReplaceAll(strings.TrimLeft(name, "/"), `\`, "_")
	parts := strings.Split(name, "/")
	for i, part := range parts {
		if len(part) > 1 && part[1] == ':' && (part[0]|0x20 >= 'a' && part[0]|0x20 <= 'z') {
			parts[i] = part[:1] + "_" + part[2:]
		}
	}
	return strings.Join(parts, "/")
}
