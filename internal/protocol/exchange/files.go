package exchange

import (
	"cmp"
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
	"sync"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// uploadStall is how long an upload may stand still.
const uploadStall = time.Minute

// PathOf is the place in the tree that a request names.
func PathOf(text string) (string, error) {
	at, err := keep.CleanPath("/", text)
	if err != nil {
		return "", keep.Refuse(keep.BadName, "that is no path of a file or folder: "+err.Error())
	}
	return at, nil
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

// sender lets the file send itself, by the kernel where that can. Before it says that something comes, that may.
type sender struct {
	http.ResponseWriter
	b       *body
	err     error
	refused bool // err says why nothing is answered here
}

func (s *sender) WriteHeader(status int) {
	if status == http.StatusOK || status == http.StatusPartialContent {
		bytes, _ := strconv.ParseInt(s.Header().Get("Content-Length"), 10, 64)
		if s.err = s.b.f.Reserve(bytes); s.err != nil {
			s.refused = true
			return
		}
	}
	s.ResponseWriter.WriteHeader(status)
}

func (s *sender) Write(p []byte) (int, error) {
	if s.err != nil {
		return 0, s.err
	}
	return s.ResponseWriter.Write(p)
}

func (s *sender) ReadFrom(r io.Reader) (int64, error) {
	part, ok := r.(*io.LimitedReader)
	if !ok || part.R != s.b {
		return io.Copy(s.ResponseWriter, r)
	}
	before := s.b.at
	if s.err != nil {
		return 0, s.err
	}
	s.err = s.b.f.SendTo(s.ResponseWriter, before, part.N)
	if s.err != nil {
		return 0, s.err
	}
	s.b.at, part.N = before+part.N, 0
	return s.b.at - before, nil
}

// Unwrap is for http.ResponseController.
func (s *sender) Unwrap() http.ResponseWriter { return s.ResponseWriter }

// Saved says that a file is to be saved, whatever it is: nothing in it is active in our own pages.
func Saved(h http.Header, name string) error {
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Content-Disposition", attachment(name))
	return nil
}

// attachment says under which name something is to be saved (RFC 6266): programs that know no RFC 8187, as curl, get it as
// far as ASCII goes.
func attachment(name string) string {
	plain := strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' || r == '"' || r == '\\' || r == '/' || r == '%' {
			return '_'
		}
		return r
	}, name)
	return `attachment; filename="` + plain + `"; filename*=UTF-8''` + url.PathEscape(name)
}

// Send gives a file at a clean path, whole or in ranges (RFC 9110, section 14), as something.
func (s *Files) Send(w http.ResponseWriter, r *http.Request, one *Stay, at string, as func(h http.Header, name string) error) error {
	mode := tree.OpenMode{Read: true}
	h := w.Header()
	if err := as(h, path.Base(at)); err != nil {
		return err
	}
	if r.Method == http.MethodHead {
		if err := one.Tree.MayOpen(at, mode); err != nil {
			return err
		}
		info, err := one.Tree.Stat(at)
		if err != nil {
			return err
		}
		s.head(h, one, info)
		h.Set("Last-Modified", info.ModTime().UTC().Format(http.TimeFormat))
		h.Set("Content-Length", strconv.FormatInt(info.Size(), 10))
		return nil
	}
	f, err := one.Tree.Open(at, mode)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err != nil {
		f.Abort(err)
		return err
	}
	s.head(h, one, info)
	b := &body{f: f, size: info.Size()}
	out := &sender{ResponseWriter: w, b: b}
	defer stopWith(http.NewResponseController(w).SetWriteDeadline, r.Context(), f.Ending())()
	if asked := r.Header.Get("Range"); asked != "" && !strings.HasPrefix(asked, "bytes=") {
		r.Header.Del("Range") // a unit that is not known is ignored (RFC 9110, section 14.2)
	}
	http.ServeContent(out, r, "", info.ModTime(), b)
	if out.refused {
		for _, name := range []string{"Content-Length", "Content-Range", "Accept-Ranges", "ETag", "Last-Modified"} {
			h.Del(name)
		}
		f.Abort(out.err)
		return out.err
	}
	if cause := cmp.Or(context.Cause(one.ctx), f.Ended()); cause != nil {
		f.Abort(cause)
		panic(http.ErrAbortHandler) // the client sees that it is not whole
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

// stopWith has what a client is sent, or sends, stop at once when nobody wants it any more, or somebody ends the transfer: when one
// of some contexts ends. Once it is done, the answer is not touched any more.
func stopWith(deadline func(time.Time) error, contexts ...context.Context) (done func()) {
	var mu sync.Mutex
	over := false
	var stops []func() bool
	for _, ctx := range contexts {
		stops = append(stops, context.AfterFunc(ctx, func() {
			mu.Lock()
			defer mu.Unlock()
			if !over {
				deadline(time.Now())
			}
		}))
	}
	return func() {
		for _, stop := range stops {
			stop()
		}
		mu.Lock()
		defer mu.Unlock()
		over = true
	}
}

// head says which content of a file it is.
func (s *Files) head(h http.Header, one *Stay, info fs.FileInfo) {
	h.Set("ETag", one.Tree.Tag(info))
	h.Set("Accept-Ranges", "bytes")
}

// stalling is an upload's body that fails when nothing comes for too long, and when nobody wants it any more.
type stalling struct {
	ctx     context.Context
	r       io.Reader
	control *http.ResponseController
}

func (s stalling) Read(p []byte) (int, error) {
	s.control.SetReadDeadline(time.Now().Add(uploadStall))
	if s.ctx.Err() != nil { // the end of it has set the deadline before this did
		return 0, s.ctx.Err()
	}
	return s.r.Read(p)
}

// Put writes a file that comes whole in one request; it gives the path under which it is.
func (s *Files) Put(w http.ResponseWriter, r *http.Request, one *Stay, at string) (string, error) {
	if _, params, _ := mime.ParseMediaType(r.Header.Get("Content-Range")); params != nil || r.Header.Get("Content-Range") != "" {
		return "", &Problem{http.StatusBadRequest, "an upload comes whole: leave Content-Range out (RFC 9110, section 14.5)"}
	}
	if conditional(r) {
		there, err := one.Tree.Stat(at)
		if err != nil {
			there = nil // which is decided when it is done
		}
		if err := conditions(r, one.Tree, there); err != nil {
			return "", err
		}
	}
	// It appears when all of it has come.
	u, err := s.Begin(r.Context(), one, keep.PartialUpload{Path: at, Size: r.ContentLength, Replaces: !s.KeepBoth && r.Header.Get("If-None-Match") != "*", Once: true})
	if err != nil {
		return "", err
	}
	if err := s.piece(w, r, one, &u, 0); err != nil {
		return "", errors.Join(err, one.Uploads.DropUpload(context.WithoutCancel(r.Context()), u))
	}
	return u.Path, nil
}

// ModTime is when something was last changed, the zero time where its store does not know: folders of buckets have no time.
func ModTime(info fs.FileInfo) time.Time {
	if at := info.ModTime().UTC(); at.Unix() > 0 {
		return at
	}
	return time.Time{}
}
