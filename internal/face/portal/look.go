package portal

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/files/picture"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

const (
	lookPrefix    = Prefix + "look/"
	previewPrefix = Prefix + "preview/"
)

// shown are the kinds of files that browsers show by their own means, by the end of the name. None is
// active: what has such a name and is something else stays what the name says (nosniff).
var shown = map[string]string{
	".pdf": "application/pdf", ".txt": textType, ".csv": textType, ".log": textType, ".md": textType, ".json": textType, ".xml": textType, ".ini": textType,
	".mp3": "audio/mpeg", ".m4a": "audio/mp4", ".ogg": "audio/ogg", ".oga": "audio/ogg", ".opus": "audio/ogg", ".wav": "audio/wav", ".flac": "audio/flac",
	".mp4": "video/mp4", ".m4v": "video/mp4", ".webm": "video/webm", ".ogv": "video/ogg", ".mov": "video/quicktime",
}

const textType = "text/plain; charset=utf-8"

// look gives a file to be shown, in a sandbox. Viewers of PDF don't run in one: they are the browser's, and get
// nothing of this origin.
func (s *Server) look(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := fileOf(r, lookPrefix)
	if err != nil {
		return err
	}
	return s.files.Send(w, r, one.Stay, at, func(h http.Header, name string) error {
		kind, known := shown[strings.ToLower(path.Ext(name))]
		if !known {
			return &exchange.Problem{Status: http.StatusUnsupportedMediaType, Say: "a browser can't show that safely: download it"}
		}
		h.Set("Content-Type", kind)
		policy := "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'self'; base-uri 'none'; form-action 'none'"
		if kind != "application/pdf" {
			policy += "; sandbox"
		}
		h.Set("Content-Security-Policy", policy)
		h.Set("Content-Disposition", "inline")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		return nil
	})
}

// preview gives a small picture of a picture. Who looks at one for the first time reads the file, which is a download; then
// the right to that is asked for.
func (s *Server) preview(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := fileOf(r, previewPrefix)
	if err != nil {
		return err
	}
	side, err := strconv.Atoi(r.URL.Query().Get("side"))
	if err != nil || !slices.Contains(picture.Sides, side) {
		return &exchange.Problem{Status: http.StatusBadRequest, Say: "side is 320 or 1600, pixels"}
	}
	none := &exchange.Problem{Status: http.StatusUnsupportedMediaType, Say: "there is no small picture of that"}
	if err := one.Tree.MayOpen(at, tree.OpenMode{Read: true}); err != nil {
		return err
	}
	info, err := one.Tree.Stat(at)
	if err != nil {
		return err
	}
	key, err := one.Tree.Draws(at)
	if err != nil {
		return err
	}
	if key == "" || !picture.Draws(path.Base(at), info.Size()) {
		return none
	}
	key += "\x00" + strconv.FormatInt(info.ModTime().UnixNano(), 36) + "\x00" + strconv.FormatInt(info.Size(), 36)
	drawn, err := s.Pictures.Drawn(key, side)
	if errors.Is(err, fs.ErrNotExist) {
		select {
		case one.looks <- struct{}{}:
			defer func() { <-one.looks }()
		case <-r.Context().Done():
			return r.Context().Err()
		}
		drawn, err = s.Pictures.Draw(r.Context(), key, side, func(to io.Writer) error { return s.readWhole(r.Context(), one, at, to) })
	}
	switch {
	case errors.Is(err, picture.ErrNone):
		return none
	case err != nil:
		return err
	}
	h := w.Header()
	h.Set("Content-Type", "image/jpeg")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Cache-Control", "private, max-age=60")
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(string(drawn)))
	return nil
}

// readWhole writes a file to somebody on this side.
func (s *Server) readWhole(ctx context.Context, one *stay, at string, to io.Writer) error {
	f, err := one.Tree.Open(at, tree.OpenMode{Read: true})
	if err != nil {
		return err
	}
	if err := f.SendTo(to, 0, -1); err != nil {
		f.Abort(keep.Refuse(keep.ClientGone, "who was to make a small picture of it stopped reading"))
		return err
	}
	return f.Close()
}
