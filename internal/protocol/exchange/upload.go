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
	"net/http"
	"path"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

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
func (s *Files) finish(ctx context.Context, one *Stay, u *keep.PartialUpload) error {
	return s.named(u, func() error {
		if err := s.ends(ctx, one, u); err != nil {
			return err
		}
		return one.Tree.Finish(u.Path, *partOf(*u, u.Size), u.Replaces)
	})
}

// ends notes that an upload is about to get its name: if the service ends before that is noted too, it is known.
func (s *Files) ends(ctx context.Context, one *Stay, u *keep.PartialUpload) error {
	u.Ending = true
	return one.Uploads.SaveUpload(ctx, *u, false)
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

// come is how much of an upload has come, bytes. One that the end of the service cut off before it had its name gets it now, or
// is known to have it.
func (s *Files) come(ctx context.Context, one *Stay, u *keep.PartialUpload) (int64, error) {
	if u.Done {
		return u.Size, nil
	}
	size, named, err := one.Tree.PartSize(u.Path, *partOf(*u, 0), u.Ending)
	if err != nil || size != u.Size || size == 0 || u.Hold && u.Hash == "" {
		return size, err
	}
	ctx = context.WithoutCancel(ctx)
	if named {
		u.Done, u.Touched = true, time.Now()
		return size, one.Uploads.SaveUpload(ctx, *u, false)
	}
	return size, s.end(ctx, one, u)
}

// end gives an upload its name and notes that; one whose hash is another is dropped.
func (s *Files) end(ctx context.Context, one *Stay, u *keep.PartialUpload) error {
	err := s.finish(ctx, one, u)
	var fault *keep.Fault
	if errors.As(err, &fault) && fault.Reason == keep.BadHash {
		return errors.Join(err, one.Uploads.DropUpload(ctx, *u))
	}
	if err != nil {
		return err
	}
	u.Done, u.Touched = true, time.Now()
	return one.Uploads.SaveUpload(ctx, *u, false)
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
	if err == nil && !u.Once && !u.Hold && u.Size >= 0 && from+came.n == u.Size {
		if err = s.ends(ctx, one, u); err != nil {
			f.Abort(err)
			return err
		}
	}
	if err == nil {
		if err = f.Close(); s.KeepBoth && taken(err) {
			err = s.finish(ctx, one, u)
		}
		if err != nil && unlike != nil {
			err = unlike
		}
		var fault *keep.Fault
		if errors.As(err, &fault) && fault.Reason == keep.BadHash {
			return errors.Join(err, one.Uploads.DropUpload(ctx, *u))
		}
	}
	if size, _, known := one.Tree.PartSize(u.Path, *partOf(*u, 0), false); known == nil && !u.Once {
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
