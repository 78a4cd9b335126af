package exchange

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

// Uploads that can go on from where they broke off are those of tus 1.0.0, the open protocol for resumable uploads:
// core, creation, creation-with-upload, checksum, expiration, termination. Ours is finish: an upload whose metadata has
// "hash" gets its name once its SHA-256 was told.
const (
	tusVersion    = "1.0.0"
	tusExtensions = "creation,creation-with-upload,checksum,expiration,termination"
	tusChecksums  = "sha1,sha256"
	tusContent    = "application/offset+octet-stream"
	// statusChecksum says that a piece is not what was sent.
	statusChecksum = 460
)

// Files moves them.
type Files struct {
	UploadsAt func(*http.Request) string // where uploads lie that were begun, with a slash at its end
	KeepBoth  bool                       // an upload whose name is taken gets another
	Log       *slog.Logger

	pieces pieces
}

// pieces are those that come just now, one for each upload.
type pieces struct {
	mu sync.Mutex
	by map[string]*piece
}

type piece struct {
	cancel context.CancelCauseFunc
	done   chan struct{}
}

var errTaken = keep.Refuse(keep.ClientGone, "the client went on with the upload on another connection")

// take ends the piece that still comes, of a connection that is broken perhaps, and begins another.
func (p *pieces) take(ctx context.Context, id string) (_ context.Context, done func(), err error) {
	mine := &piece{done: make(chan struct{})}
	ctx, mine.cancel = context.WithCancelCause(ctx)
	for {
		p.mu.Lock()
		other := p.by[id]
		if other == nil {
			if p.by == nil {
				p.by = map[string]*piece{}
			}
			p.by[id] = mine
			p.mu.Unlock()
			break
		}
		p.mu.Unlock()
		other.cancel(errTaken)
		select {
		case <-other.done:
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		}
	}
	return ctx, func() {
		p.mu.Lock()
		delete(p.by, id)
		p.mu.Unlock()
		mine.cancel(nil)
		close(mine.done)
	}, nil
}

var isHash = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Metadata reads Upload-Metadata, names and base64, of a request that begins an upload; it refuses what is not offered.
func Metadata(r *http.Request) (map[string]string, error) {
	switch {
	case r.Header.Get("Upload-Concat") != "":
		return nil, &Problem{http.StatusBadRequest, "files are not put together of several uploads here (Upload-Concat): send it as one upload"}
	case r.Header.Get("Upload-Defer-Length") != "":
		return nil, &Problem{http.StatusBadRequest, "a length that is said later is not taken here (Upload-Defer-Length): say with Upload-Length how many bytes the file has, or send it with PUT"}
	case len(r.Header.Get("Upload-Metadata")) > maxAbout:
		return nil, &Problem{http.StatusBadRequest, fmt.Sprintf("Upload-Metadata has more than %d bytes", maxAbout)}
	}
	found := map[string]string{}
	for pair := range strings.SplitSeq(r.Header.Get("Upload-Metadata"), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(pair), " ")
		plain, err := base64.StdEncoding.DecodeString(value)
		if err != nil {
			return nil, &Problem{http.StatusBadRequest, "Upload-Metadata is not well-formed: names, each with a value in base64"}
		}
		found[name] = string(plain)
	}
	return found, nil
}

// maxAbout bounds what a client may say of a file, bytes.
const maxAbout = 8 << 10

// Overriding lets clients that can send neither PATCH nor DELETE say so: they send POST with X-HTTP-Method-Override (tus 1.0.0).
func Overriding(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if method := r.Header.Get("X-HTTP-Method-Override"); r.Method == http.MethodPost && slices.Contains([]string{http.MethodPatch, http.MethodDelete, http.MethodHead}, method) && r.Header.Get("Tus-Resumable") != "" {
			r = r.WithContext(r.Context())
			r.Method = method
		}
		next.ServeHTTP(w, r)
	})
}

// tusAnswer says which version is spoken.
func tusAnswer(w http.ResponseWriter) { w.Header().Set("Tus-Resumable", tusVersion) }

func (s *Files) UploadOptions(w http.ResponseWriter, r *http.Request) error {
	tusAnswer(w)
	h := w.Header()
	h.Set("Tus-Version", tusVersion)
	h.Set("Tus-Extension", tusExtensions)
	h.Set("Tus-Checksum-Algorithm", tusChecksums)
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func tusAsk(w http.ResponseWriter, r *http.Request) error {
	tusAnswer(w)
	if r.Header.Get("Tus-Resumable") != tusVersion {
		w.Header().Set("Tus-Version", tusVersion)
		return &Problem{http.StatusPreconditionFailed, "say Tus-Resumable: " + tusVersion}
	}
	return nil
}

// CreateUpload begins an upload where its metadata says, perhaps with its first piece.
func (s *Files) CreateUpload(w http.ResponseWriter, r *http.Request, one *Stay) error {
	about, err := Metadata(r)
	if err != nil {
		tusAnswer(w)
		return err
	}
	at := about["path"]
	if at == "" {
		if about["filename"] == "" {
			tusAnswer(w)
			return &Problem{http.StatusBadRequest, "say with Upload-Metadata what the file is called: filename (with folder), or path"}
		}
		at = path.Join("/", about["folder"]) + "/" + about["filename"]
	}
	if at, err = PathOf(at); err != nil {
		return err
	}
	return s.CreateUploadAt(w, r, one, at, about)
}

// CreateUploadAt begins an upload at a clean path.
func (s *Files) CreateUploadAt(w http.ResponseWriter, r *http.Request, one *Stay, at string, about map[string]string) error {
	if err := tusAsk(w, r); err != nil {
		return err
	}
	size, err := strconv.ParseInt(r.Header.Get("Upload-Length"), 10, 64)
	if err != nil || size < 0 {
		return &Problem{http.StatusBadRequest, "say with Upload-Length how many bytes the file has"}
	}
	u := keep.PartialUpload{Path: at, Size: size, Replaces: !s.KeepBoth && about["replace"] != "", Hash: strings.ToLower(about["sha256"]), About: r.Header.Get("Upload-Metadata")}
	if u.Hash != "" && !isHash.MatchString(u.Hash) {
		return &Problem{http.StatusBadRequest, "sha256 is 64 hexadecimal digits"}
	}
	_, later := about["hash"]
	u.Hold = later && u.Hash == ""
	whole := r.Header.Get("Content-Type") == tusContent && r.ContentLength == size // nothing is left to go on with
	u.Once = whole
	if u, err = s.Begin(r.Context(), one, u); err != nil {
		return err
	}
	w.Header().Set("Location", s.UploadsAt(r)+u.ID)
	if r.Header.Get("Content-Type") == tusContent || size == 0 {
		if err := s.piece(w, r, one, &u, 0); err != nil {
			if u.Once {
				err = errors.Join(err, one.Uploads.DropUpload(context.WithoutCancel(r.Context()), u))
			}
			return err
		}
		have := size
		if !u.Done && !u.Once {
			if have, err = s.come(r.Context(), one, &u); err != nil {
				return err
			}
		}
		w.Header().Set("Upload-Offset", strconv.FormatInt(have, 10))
	}
	tellUpload(w, u)
	w.WriteHeader(http.StatusCreated)
	return nil
}

// tellUpload says how long an upload can lie.
func tellUpload(w http.ResponseWriter, u keep.PartialUpload) {
	if !u.Done {
		w.Header().Set("Upload-Expires", u.Ends().UTC().Format(http.TimeFormat))
	}
}

// HeadUpload tells how much has come.
func (s *Files) HeadUpload(w http.ResponseWriter, r *http.Request, one *Stay) error {
	if err := tusAsk(w, r); err != nil {
		return err
	}
	u, err := s.upload(r.Context(), one, r.PathValue("id"))
	if err != nil {
		return err
	}
	_, done, err := s.pieces.take(r.Context(), u.ID)
	if err != nil {
		return err
	}
	defer done()
	from, err := s.come(r.Context(), one, &u)
	if err != nil {
		return err
	}
	h := w.Header()
	h.Set("Upload-Offset", strconv.FormatInt(from, 10))
	h.Set("Upload-Length", strconv.FormatInt(u.Size, 10))
	if u.About != "" {
		h.Set("Upload-Metadata", u.About)
	}
	tellUpload(w, u)
	return nil
}

// PatchUpload takes the next piece.
func (s *Files) PatchUpload(w http.ResponseWriter, r *http.Request, one *Stay) error {
	if err := tusAsk(w, r); err != nil {
		return err
	}
	if r.Header.Get("Content-Type") != tusContent {
		return &Problem{http.StatusUnsupportedMediaType, "send the piece as " + tusContent}
	}
	from, err := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || from < 0 {
		return &Problem{http.StatusBadRequest, "say with Upload-Offset where the piece begins"}
	}
	ctx, done, err := s.pieces.take(r.Context(), r.PathValue("id"))
	if err != nil {
		return err
	}
	defer done()
	r = r.WithContext(ctx)
	u, err := s.upload(r.Context(), one, r.PathValue("id"))
	if err != nil {
		return err
	}
	have, err := s.come(r.Context(), one, &u)
	switch {
	case err != nil:
		return err
	case have != from:
		w.Header().Set("Upload-Offset", strconv.FormatInt(have, 10))
		return &Problem{http.StatusConflict, "the upload stands at byte " + strconv.FormatInt(have, 10) + ": go on there"}
	case !u.Done:
		if err := s.piece(w, r, one, &u, from); err != nil {
			return err
		}
		have, err = s.come(r.Context(), one, &u)
	}
	w.Header().Set("Upload-Offset", strconv.FormatInt(have, 10))
	tellUpload(w, u)
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

// FinishUpload gives an upload its name that has come whole: now its hash is known, or what is to become
// of a file that is there.
func (s *Files) FinishUpload(w http.ResponseWriter, r *http.Request, one *Stay) error {
	var ask api.PortalFinish
	if err := Read(w, r, &ask); err != nil {
		return err
	}
	_, done, err := s.pieces.take(r.Context(), r.PathValue("id"))
	if err != nil {
		return err
	}
	defer done()
	u, err := s.upload(r.Context(), one, r.PathValue("id"))
	if err != nil || u.Done {
		return DoneWith(w, err)
	}
	if ask.Hash != "" {
		if u.Hash = strings.ToLower(ask.Hash); !isHash.MatchString(u.Hash) {
			return &keep.FieldError{Field: "hash", Say: "a SHA-256 is 64 hexadecimal digits"}
		}
	}
	if s.KeepBoth && (ask.Path != "" || ask.Replace) {
		return &Problem{http.StatusBadRequest, "the file gets a name of its own here"}
	}
	if ask.Path != "" {
		if u.Path, err = PathOf(ask.Path); err != nil {
			return err
		}
	}
	u.Replaces = u.Replaces || ask.Replace
	if u.Hold && u.Hash == "" {
		return &keep.FieldError{Field: "hash", Say: "the upload waits for its SHA-256"}
	}
	have, err := s.come(r.Context(), one, &u)
	if err == nil && have != u.Size {
		err = &Problem{http.StatusConflict, "the upload stands at byte " + strconv.FormatInt(have, 10) + ": its end is still to come"}
	}
	if err == nil && !u.Done { // it has no byte at all
		err = s.end(context.WithoutCancel(r.Context()), one, &u)
	}
	return DoneWith(w, err)
}

// DeleteUpload gives an upload up.
func (s *Files) DeleteUpload(w http.ResponseWriter, r *http.Request, one *Stay) error {
	if err := tusAsk(w, r); err != nil {
		return err
	}
	_, done, err := s.pieces.take(r.Context(), r.PathValue("id"))
	if err != nil {
		return err
	}
	defer done()
	u, err := s.upload(r.Context(), one, r.PathValue("id"))
	if err == nil {
		err = one.Uploads.DropUpload(r.Context(), u)
	}
	return DoneWith(w, err)
}

// ListUploads lists those of the holder that are not whole yet.
func (s *Files) ListUploads(w http.ResponseWriter, r *http.Request, one *Stay) error {
	found, err := one.Uploads.Uploads(r.Context())
	if err != nil {
		return err
	}
	shown := api.Page[api.PortalUpload]{Items: []api.PortalUpload{}}
	for _, u := range found {
		if !lies(one, &u) {
			continue
		}
		have, _, err := one.Tree.PartSize(u.Path, *partOf(u, 0), u.Ending)
		if err != nil { // its folder may be gone
			continue
		}
		shown.Items = append(shown.Items, api.PortalUpload{ID: u.ID, Path: u.Path, Size: u.Size, Offset: have, Created: u.Created.UTC(), Ends: u.Ends().UTC()})
	}
	return Write(w, shown)
}
