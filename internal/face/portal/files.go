package portal

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

const (
	// listBuffer is with how much a folder is read at once, bytes.
	listBuffer = 64 << 10
	// maxEntries bounds the entries of a folder that are shown.
	maxEntries = 200_000
	// uploadStall is how long an upload may stand still.
	uploadStall = time.Minute
)

// pathOf is the place in the tree that a request names.
func pathOf(text string) (string, error) {
	at, err := keep.CleanPath("/", text)
	if err != nil {
		return "", keep.Refuse(keep.BadName, "that is no path of a file or folder: "+err.Error())
	}
	return at, nil
}

func fileOf(r *http.Request) (string, error) {
	return pathOf("/" + strings.TrimPrefix(r.URL.Path, filesPrefix))
}

// may are the rights that the portal offers something for, by their names.
var may = []struct {
	right keep.Rights
	name  string
}{{keep.Upload, "upload"}, {keep.Mkdir, "mkdir"}, {keep.Download, "download"}, {keep.Overwrite, "overwrite"}, {keep.Rename, "rename"}, {keep.Delete, "delete"}, {keep.Rmdir, "rmdir"}}

// folder shows what is in a folder. What stands in it is written as it comes from the disk.
func (s *Server) folder(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := pathOf(r.URL.Query().Get("path"))
	if err != nil {
		return err
	}
	listing, err := one.tree.ReadFolder(at)
	if err != nil {
		return err
	}
	defer listing.Close()
	shown := api.PortalFolder{Path: at, May: []string{}, Entries: []api.PortalEntry{}}
	for _, m := range may {
		if one.tree.May(m.right, path.Join(at, "x")) {
			shown.May = append(shown.May, m.name)
		}
	}
	if space, err := one.tree.Space(at); err == nil {
		shown.Free = int64(min(space.FreeBytes, 1<<62))
	}
	for r.Context().Err() == nil {
		found, err := listing.Next(listBuffer)
		if err == io.EOF {
			return write(w, shown)
		}
		if err != nil {
			return err
		}
		for _, info := range found {
			if len(shown.Entries) >= maxEntries {
				shown.Cut = true
				return write(w, shown)
			}
			shown.Entries = append(shown.Entries, entryOf(info))
		}
	}
	return r.Context().Err()
}

func entryOf(info fs.FileInfo) api.PortalEntry {
	e := api.PortalEntry{Name: keep.Spell(info.Name()), Kind: "file", Size: info.Size(), Modified: info.ModTime().UTC()}
	switch mode := info.Mode(); {
	case mode.IsDir():
		e.Kind, e.Size = "folder", 0
	case mode&fs.ModeSymlink != 0:
		e.Kind = "link"
	}
	return e
}

// body is a file as http.ServeContent wants it.
type body struct {
	f        *tree.File
	size, at int64
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.f.ReadAt(p[:min(int64(len(p)), max(0, b.size-b.at))], b.at)
	b.at += int64(n)
	if n == 0 && err == nil {
		err = io.EOF
	}
	return n, err
}

func (b *body) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += b.at
	case io.SeekEnd:
		offset += b.size
	}
	b.at = offset
	return b.at, nil
}

// sender lets the file send itself, by the kernel where that can.
type sender struct {
	http.ResponseWriter
	b   *body
	err error
}

func (s *sender) ReadFrom(r io.Reader) (int64, error) {
	part, ok := r.(*io.LimitedReader)
	if !ok || part.R != s.b {
		return io.Copy(s.ResponseWriter, r)
	}
	before := s.b.at
	s.err = s.b.f.SendTo(s.ResponseWriter, before, part.N)
	if s.err != nil {
		return 0, s.err
	}
	s.b.at, part.N = before+part.N, 0
	return s.b.at - before, nil
}

// Unwrap is for http.ResponseController.
func (s *sender) Unwrap() http.ResponseWriter { return s.ResponseWriter }

// download gives a file, whole or in ranges (RFC 9110, section 14). Nothing in it is active in
// the portal's own pages: browsers save it.
func (s *Server) download(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := fileOf(r)
	if err != nil {
		return err
	}
	mode := tree.OpenMode{Read: true}
	h := w.Header()
	name := path.Base(at)
	if r.Method == http.MethodHead {
		if err := one.tree.MayOpen(at, mode); err != nil {
			return err
		}
		info, err := one.tree.Stat(at)
		if err != nil {
			return err
		}
		head(h, name, info)
		h.Set("Content-Length", strconv.FormatInt(info.Size(), 10))
		return nil
	}
	f, err := one.tree.Open(at, mode)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err != nil {
		f.Abort(err)
		return err
	}
	head(h, name, info)
	b := &body{f: f, size: info.Size()}
	out := &sender{ResponseWriter: w, b: b}
	defer context.AfterFunc(r.Context(), func() { http.NewResponseController(w).SetWriteDeadline(time.Now()) })()
	http.ServeContent(out, r, "", info.ModTime(), b)
	if cause := context.Cause(one.ctx); cause != nil {
		f.Abort(cause)
		return nil
	}
	if out.err != nil || r.Context().Err() != nil {
		f.Abort(keep.Refuse(keep.ClientGone, "the client left before the file was whole"))
		return nil
	}
	if err := f.Close(); err != nil {
		s.Log.Warn("a download did not end well", "cause", err)
	}
	return nil
}

// head says what a file is, and that it is to be saved.
func head(h http.Header, name string, info fs.FileInfo) {
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(name)) // RFC 8187
	h.Set("ETag", `"`+strconv.FormatInt(info.ModTime().UnixNano(), 36)+"-"+strconv.FormatInt(info.Size(), 36)+`"`)
	h.Set("Accept-Ranges", "bytes")
}

// stalling is an upload's body that fails when nothing comes for too long.
type stalling struct {
	r       io.Reader
	control *http.ResponseController
}

func (s stalling) Read(p []byte) (int, error) {
	s.control.SetReadDeadline(time.Now().Add(uploadStall))
	return s.r.Read(p)
}

// upload writes a file that comes whole in one request.
func (s *Server) upload(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := fileOf(r)
	if err != nil {
		return err
	}
	if _, params, _ := mime.ParseMediaType(r.Header.Get("Content-Range")); params != nil || r.Header.Get("Content-Range") != "" {
		return &problem{http.StatusBadRequest, "an upload comes whole: leave Content-Range out (RFC 9110, section 14.5)"}
	}
	// It appears when all of it has come.
	u, err := s.beginUpload(r.Context(), one, keep.PartialUpload{Path: at, Size: r.ContentLength, Replaces: r.Header.Get("If-None-Match") != "*", Once: true})
	if err != nil {
		return err
	}
	if err := s.piece(w, r, one, &u, 0); err != nil {
		return errors.Join(err, one.visit.DropUpload(context.WithoutCancel(r.Context()), u))
	}
	return doneWith(w, nil)
}

func (s *Server) makeFolder(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalPath
	if err := read(w, r, &ask); err != nil {
		return err
	}
	at, err := pathOf(ask.Path)
	if err == nil {
		err = one.tree.Mkdir(at, nil)
	}
	return doneWith(w, err)
}

func (s *Server) rename(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalRename
	if err := read(w, r, &ask); err != nil {
		return err
	}
	from, err1 := pathOf(ask.Path)
	to, err2 := pathOf(ask.To)
	err := errors.Join(err1, err2)
	if err == nil {
		err = one.tree.Rename(from, to, false)
	}
	return doneWith(w, err)
}

// remove deletes a file, or a folder that is empty.
func (s *Server) remove(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalPath
	if err := read(w, r, &ask); err != nil {
		return err
	}
	at, err := pathOf(ask.Path)
	if err != nil {
		return err
	}
	info, err := one.tree.Lstat(at)
	if err == nil && info.IsDir() {
		err = one.tree.Rmdir(at)
	} else {
		err = one.tree.Remove(at)
	}
	return doneWith(w, err)
}

func doneWith(w http.ResponseWriter, err error) error {
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}
