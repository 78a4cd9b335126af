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

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// uploadStall is how long an upload may stand still.
const uploadStall = time.Minute

// pathOf is the place in the tree that a request names.
func pathOf(text string) (string, error) {
	at, err := keep.CleanPath("/", text)
	if err != nil {
		return "", keep.Refuse(keep.BadName, "that is no path of a file or folder: "+err.Error())
	}
	return at, nil
}

func fileOf(r *http.Request, prefix string) (string, error) {
	return pathOf("/" + strings.TrimPrefix(r.URL.Path, prefix))
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
	return s.send(w, r, one, filesPrefix, saved)
}

// saved says that a file is to be saved, whatever it is.
func saved(h http.Header, name string) error {
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(name)) // RFC 8187
	return nil
}

func (s *Server) send(w http.ResponseWriter, r *http.Request, one *stay, prefix string, as func(h http.Header, name string) error) error {
	at, err := fileOf(r, prefix)
	if err != nil {
		return err
	}
	mode := tree.OpenMode{Read: true}
	h := w.Header()
	if err := as(h, path.Base(at)); err != nil {
		return err
	}
	if r.Method == http.MethodHead {
		if err := one.tree.MayOpen(at, mode); err != nil {
			return err
		}
		info, err := one.tree.Stat(at)
		if err != nil {
			return err
		}
		head(h, info)
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
	head(h, info)
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

// head says which content of a file it is.
func head(h http.Header, info fs.FileInfo) {
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
	at, err := fileOf(r, filesPrefix)
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
