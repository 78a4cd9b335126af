package exchange

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
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

// Metadata reads Upload-Metadata: names and base64.
func Metadata(r *http.Request) (map[string]string, error) {
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

// partOf is an upload as the tree knows it.
func partOf(u keep.PartialUpload, from int64) *tree.Part {
	p := &tree.Part{ID: u.ID, Size: u.Size, Hold: u.Hold, Hash: u.Hash}
	if from > 0 && u.Hashed == from {
		p.Sum = u.State
	}
	return p
}

// OpenMode is how the next piece of an upload is opened.
func OpenMode(u keep.PartialUpload, from int64) tree.OpenMode {
	return tree.OpenMode{Write: true, Create: true, Exclusive: !u.Replaces, Truncate: true, Mode: 0o666, Offset: from, Total: max(0, u.Size), Part: partOf(u, from)}
}

// Begin decides on an upload before its first byte, and keeps it.
func (s *Files) Begin(ctx context.Context, one *Stay, u keep.PartialUpload) (keep.PartialUpload, error) {
	u.ID, u.Created = strings.ToLower(rand.Text()), time.Now()
	u.Touched = u.Created
	if err := s.named(&u, func() error { return one.Tree.MayOpen(u.Path, OpenMode(u, 0)) }); err != nil {
		return u, err
	}
	if space, err := one.Tree.Space(path.Dir(u.Path)); err == nil && u.Size > 0 && space.Bytes > 0 && uint64(u.Size) > space.FreeBytes {
		return u, keep.Refuse(keep.DiskFull, "there is no room for a file of "+keep.SaySize(u.Size)+": "+keep.SaySize(int64(space.FreeBytes))+" are free")
	}
	err := one.Tree.AtPlace(u.Path, true, func(lies tree.Place) error {
		u.Path, u.Store, u.Folder = lies.Path, lies.Spot.Store, lies.Spot.Folder().Path
		return one.Uploads.SaveUpload(ctx, u, true)
	})
	return u, err
}

var errNoUpload = keep.Refuse(keep.NotFound, "there is no such upload any more: begin it anew")

// upload is one of those that whoever stays began, where its folder lies now; one that is not theirs to go on with is not there.
func (s *Files) upload(ctx context.Context, one *Stay, id string) (keep.PartialUpload, error) {
	u, err := one.Uploads.Upload(ctx, id)
	if err == nil && !lies(one, &u) {
		err = errNoUpload
	}
	return u, err
}

// lies gives an upload the path that leads to it now; false when none does, or none that a token or a pass is for.
func lies(one *Stay, u *keep.PartialUpload) bool {
	at, known := one.Tree.PathTo(keep.Spot{Store: u.Store, Path: path.Join(u.Folder, path.Base(u.Path))})
	u.Path = at
	return known && !(one.Tree.Narrowed(keep.Upload, at) && one.Tree.Narrowed(keep.Overwrite, at))
}

// maxNames bounds the names that are tried for a file whose own is taken.
const maxNames = 1000

// taken reports whether an error says that a name is.
func taken(err error) bool {
	var fault *keep.Fault
	return errors.As(err, &fault) && fault.Reason == keep.AlreadyThere
}

// numbered is the n-th name for a file.
func numbered(at string, n int) string {
	end := path.Ext(at)
	if end == path.Base(at) { // it only begins with a dot
		end = ""
	}
	return fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(at, end), n, end)
}

// finish gives an upload its name that has come whole.
func (s *Files) finish(one *Stay, u *keep.PartialUpload) error {
	return s.named(u, func() error { return one.Tree.Finish(u.Path, *partOf(*u, u.Size), u.Replaces) })
}

// named does something with an upload under its name, or where that is taken under the next that is free.
func (s *Files) named(u *keep.PartialUpload, do func() error) error {
	err := do()
	for named, n := u.Path, 2; s.KeepBoth && taken(err) && n < maxNames; n++ {
		u.Path = numbered(named, n)
		err = do()
	}
	return err
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
	u := keep.PartialUpload{Path: at, Size: size, Replaces: !s.KeepBoth && about["replace"] != "", Hash: strings.ToLower(about["sha256"])}
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
	from, err := s.come(one, u)
	if err != nil {
		return err
	}
	h := w.Header()
	h.Set("Upload-Offset", strconv.FormatInt(from, 10))
	h.Set("Upload-Length", strconv.FormatInt(u.Size, 10))
	tellUpload(w, u)
	return nil
}

// come is how much of an upload has come, bytes.
func (s *Files) come(one *Stay, u keep.PartialUpload) (int64, error) {
	if u.Done {
		return u.Size, nil
	}
	return one.Tree.PartSize(u.Path, *partOf(u, 0))
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
	have, err := s.come(one, u)
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
		have, err = s.come(one, u)
	}
	w.Header().Set("Upload-Offset", strconv.FormatInt(have, 10))
	tellUpload(w, u)
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

// piece writes what a request brings of an upload, which gets its name if that is the end.
func (s *Files) piece(w http.ResponseWriter, r *http.Request, one *Stay, u *keep.PartialUpload, from int64) error {
	sum, want, err := checksum(r)
	if err != nil {
		return err
	}
	if u.Size >= 0 && r.ContentLength > u.Size-from {
		return &Problem{http.StatusBadRequest, "that is more than the upload still lacks"}
	}
	var f *tree.File
	var unlike error // the condition of the request does not hold any more
	if err := s.named(u, func() (err error) {
		mode := OpenMode(*u, from)
		if u.Once && conditional(r) { // it may have changed while it came
			mode.Part.Still = func(there fs.FileInfo) error {
				if unlike = conditions(r, one.Tree, there); unlike != nil {
					return keep.Refuse(keep.InUse, "the file was changed while it came: nothing was done")
				}
				return nil
			}
		}
		f, err = one.Tree.Open(u.Path, mode)
		return err
	}); err != nil {
		return err
	}
	var body io.Reader = r.Body
	if u.Size >= 0 {
		body = io.LimitReader(body, u.Size-from)
	}
	if sum != nil {
		body = io.TeeReader(body, sum)
	}
	came := &counted{r: body}
	body = came
	err = s.receive(w, r, one, f, body, from)
	// What has come is kept, whoever has left.
	ctx := context.WithoutCancel(r.Context())
	if err == nil && sum != nil && !bytes.Equal(sum.Sum(nil), want) {
		err = &Problem{statusChecksum, "the piece is not what was sent: send it again"}
		if undo := f.Resize(from); undo != nil {
			err = errors.Join(err, one.Uploads.DropUpload(ctx, *u))
		}
		f.Abort(keep.Refuse(keep.BadHash, "the piece is not what was sent"))
		return err
	}
	if err == nil {
		if err = f.Close(); s.KeepBoth && taken(err) {
			err = s.finish(one, u)
		}
		if err != nil && unlike != nil {
			err = unlike
		}
		var fault *keep.Fault
		if errors.As(err, &fault) && fault.Reason == keep.BadHash {
			return errors.Join(err, one.Uploads.DropUpload(ctx, *u))
		}
	}
	if size, known := s.come(one, *u); known == nil && !u.Once {
		u.State, u.Hashed, u.Touched = f.Rest(size), size, time.Now()
	}
	u.Done = err == nil && !u.Hold && (u.Size < 0 || from+came.n == u.Size)
	switch {
	case u.Once && err == nil && !u.Done:
		return &Problem{http.StatusBadRequest, "the file did not come to its end"}
	case u.Once && err == nil:
		return one.Uploads.DropUpload(ctx, *u)
	case u.Once:
		return err
	}
	return errors.Join(err, one.Uploads.SaveUpload(ctx, *u, false))
}

// counted knows how much was read.
type counted struct {
	r io.Reader
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// receive writes what comes; after an error the file has ended.
func (s *Files) receive(w http.ResponseWriter, r *http.Request, one *Stay, f *tree.File, body io.Reader, from int64) error {
	control := http.NewResponseController(w)
	defer stopWith(control.SetReadDeadline, r.Context(), f.Ending())()
	err := f.ReceiveFrom(stalling{r.Context(), body, control}, from)
	var fault *keep.Fault
	switch cause := cmp.Or(context.Cause(one.ctx), f.Ended()); {
	case cause != nil:
		f.Abort(cause)
		return cause
	case errors.As(err, &fault):
		f.Abort(err)
		return err
	case err != nil || context.Cause(r.Context()) != nil:
		f.Abort(keep.Refuse(keep.ClientGone, "the client left before the file was whole"))
		return &Problem{http.StatusBadRequest, "the file did not come to its end"}
	}
	control.SetReadDeadline(time.Time{})
	return nil
}

// checksum is the hash that a piece must have; nil when none was told.
func checksum(r *http.Request) (of hash.Hash, want []byte, err error) {
	text := r.Header.Get("Upload-Checksum")
	if text == "" {
		return nil, nil, nil
	}
	kind, value, _ := strings.Cut(text, " ")
	switch kind {
	case "sha256":
		of = sha256.New()
	case "sha1":
		of = sha1.New()
	default:
		return nil, nil, &Problem{http.StatusBadRequest, "Upload-Checksum takes " + tusChecksums}
	}
	if want, err = base64.StdEncoding.DecodeString(value); err != nil || len(want) != of.Size() {
		return nil, nil, &Problem{http.StatusBadRequest, "Upload-Checksum is a kind of hash and its value in base64"}
	}
	return of, want, nil
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
	have, err := s.come(one, u)
	if err == nil && have != u.Size {
		err = &Problem{http.StatusConflict, "the upload stands at byte " + strconv.FormatInt(have, 10) + ": its end is still to come"}
	}
	if err != nil {
		return err
	}
	ctx := context.WithoutCancel(r.Context())
	err = s.finish(one, &u)
	var fault *keep.Fault
	if errors.As(err, &fault) && fault.Reason == keep.BadHash {
		return errors.Join(err, one.Uploads.DropUpload(ctx, u))
	}
	if err != nil {
		return err
	}
	u.Done, u.Touched = true, time.Now()
	return DoneWith(w, one.Uploads.SaveUpload(ctx, u, false))
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
		have, err := s.come(one, u)
		if err != nil { // its folder may be gone
			continue
		}
		shown.Items = append(shown.Items, api.PortalUpload{ID: u.ID, Path: u.Path, Size: u.Size, Offset: have, Created: u.Created.UTC(), Ends: u.Ends().UTC()})
	}
	return Write(w, shown)
}
