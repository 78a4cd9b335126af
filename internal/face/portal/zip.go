package portal

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

const (
	// maxZipped bounds the files of one archive, and maxDepth the folders in one another.
	maxZipped, maxDepth = 200_000, 100
	// leftOutName is the entry that names what is not in an archive.
	leftOutName = "NOT INCLUDED.txt"
	// maxLeftOut bounds the names in it.
	maxLeftOut = 1000
)

// zipped is an archive that is being sent.
type zipped struct {
	ctx     context.Context
	tree    *tree.Tree
	out     *zip.Writer
	control *http.ResponseController
	files   int
	leftOut []string
}

// zip sends a folder, or some of what is in it, as one archive, as it is read: nothing is kept on the way. Each file
// in it is a download of its own; what the account may not have is named in the archive.
func (s *Server) zip(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := pathOf(r.URL.Query().Get("path"))
	if err != nil {
		return err
	}
	info, err := one.tree.Stat(at)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return keep.Refuse(keep.NotAFolder, "that is not a folder")
	}
	names := r.URL.Query()["name"]
	for _, name := range names {
		if _, err := pathOf("/" + name); err != nil || name == "" || name == "." || name == ".." || strings.Contains(name, "/") {
			return keep.Refuse(keep.BadName, "a name in the folder is meant, without a slash")
		}
	}
	title := path.Base(at)
	if at == "/" {
		title = "files"
	}
	h := w.Header()
	h.Set("Content-Type", "application/zip")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(title+".zip"))
	control := http.NewResponseController(w)
	defer context.AfterFunc(r.Context(), func() { control.SetWriteDeadline(time.Now()) })()
	z := &zipped{ctx: r.Context(), tree: one.tree, out: zip.NewWriter(w), control: control}
	if len(names) == 0 {
		err = z.folder(at, "", 0)
	}
	for _, name := range names {
		if err == nil {
			err = z.entry(path.Join(at, name), name, 0)
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
func (z *zipped) entry(at, name string, depth int) error {
	info, err := z.tree.Lstat(at)
	switch {
	case err != nil:
		return z.without(name, err)
	case info.IsDir():
		if _, err := z.out.CreateHeader(&zip.FileHeader{Name: name + "/", Modified: info.ModTime()}); err != nil {
			return err
		}
		return z.folder(at, name+"/", depth+1)
	case !info.Mode().IsRegular():
		return z.without(name, keep.Refuse(keep.BadRequest, "it is a link"))
	}
	return z.file(at, name, info)
}

func (z *zipped) folder(at, prefix string, depth int) error {
	if depth > maxDepth {
		return z.without(prefix, keep.Refuse(keep.BadRequest, "it lies too deep"))
	}
	listing, err := z.tree.ReadFolder(at)
	if err != nil {
		return z.without(prefix, err)
	}
	defer listing.Close()
	for {
		found, err := listing.Next(listBuffer)
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

func (z *zipped) file(at, name string, info fs.FileInfo) error {
	if z.files++; z.files > maxZipped {
		return z.without(name, keep.Refuse(keep.BadRequest, fmt.Sprintf("an archive holds %d files at the most", maxZipped)))
	}
	f, err := z.tree.Open(at, tree.OpenMode{Read: true})
	if err != nil {
		return z.without(name, err)
	}
	w, err := z.out.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: info.ModTime()})
	if err == nil {
		err = f.SendTo(w, 0, -1)
	}
	if err == nil {
		err = z.ctx.Err()
	}
	if err != nil {
		f.Abort(keep.Refuse(keep.ClientGone, "the client left before the file was whole"))
		return err
	}
	return f.Close()
}

// without notes what is not in the archive. What ends the answer is an error.
func (z *zipped) without(name string, err error) error {
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

func (z *zipped) end() error {
	if len(z.leftOut) > 0 {
		w, err := z.out.Create(leftOutName)
		if err == nil {
			_, err = io.WriteString(w, strings.Join(z.leftOut, "\r\n")+"\r\n")
		}
		if err != nil {
			return err
		}
	}
	return z.out.Close()
}
