package pass

import (
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// maxListed bounds the files of a folder that a page shows.
const maxListed = 5000

var errNoItem = &exchange.Problem{Status: http.StatusNotFound, Say: "nothing of that name is behind this link, or not any more"}

// baseOf is the name under which visitors have one of the paths of a pass.
func baseOf(at string) string {
	if at == "/" {
		return "files"
	}
	return path.Base(at)
}

// place is what of the tree an address below a link means: the number of a path of the pass, its name, then what is below.
func (one *visitor) place(item, rest string) (string, error) {
	n, err := strconv.Atoi(item)
	if err != nil || n < 0 || n >= len(one.pass.Paths) || strconv.Itoa(n) != item {
		return "", errNoItem
	}
	first, below, _ := strings.Cut(rest, "/")
	if first != baseOf(one.pass.Paths[n]) {
		return "", errNoItem
	}
	return exchange.PathOf(path.Join(one.pass.Paths[n], path.Clean("/"+below)))
}

// fetches reports whether files can be fetched with a pass.
func fetches(p *keep.Pass) bool { return p.Kind == keep.FetchPass || p.Shows }

// written is a path as it stands in an address.
func written(at string) string {
	parts := strings.Split(at, "/")
	for i, part := range parts {
		parts[i] = url.PathEscape(part)
	}
	return strings.Join(parts, "/")
}

// item gives a file, or shows what is in a folder.
func (s *Server) item(w http.ResponseWriter, r *http.Request, one *visitor) error {
	if !fetches(&one.pass) {
		return errNoItem
	}
	at, err := one.place(r.PathValue("item"), strings.TrimSuffix(r.PathValue("path"), "/"))
	if err == nil {
		err = one.visit.Usable(r.Context())
	}
	if err != nil {
		return err
	}
	info, err := one.Tree.Stat(at)
	if err != nil {
		return hidden(err)
	}
	if info.IsDir() {
		if !strings.HasSuffix(r.URL.Path, "/") {
			http.Redirect(w, r, "./"+path.Base(r.URL.EscapedPath())+"/", http.StatusFound)
			return nil
		}
		return s.show(w, r, one, at)
	}
	return s.files.Send(w, r, one.Stay, at, exchange.Saved)
}

// hidden is what a visitor hears of a path that can't be had.
func hidden(err error) error {
	if keep.FaultOf(err).Reason == keep.NotFound {
		return errNoItem
	}
	return err
}

// archive sends what the pass is for, or a folder in it, as one.
func (s *Server) archive(w http.ResponseWriter, r *http.Request, one *visitor) error {
	if !fetches(&one.pass) {
		return errNoItem
	}
	if err := one.visit.Usable(r.Context()); err != nil {
		return err
	}
	what := exchange.Archive{Kind: path.Base(r.URL.Path), Title: "files"}
	if in := r.URL.Query().Get("in"); in != "" {
		item, rest, _ := strings.Cut(in, "/")
		at, err := one.place(item, rest)
		if err != nil {
			return err
		}
		what.At = at
	} else if len(one.pass.Paths) == 1 {
		what.At = one.pass.Paths[0]
	} else {
		what.Paths = one.pass.Paths
		return s.files.Archive(w, r, one.Stay, what)
	}
	info, err := one.Tree.Stat(what.At)
	if err != nil {
		return hidden(err)
	}
	if what.Title = baseOf(what.At); !info.IsDir() {
		what.Paths = []string{what.At}
	}
	return s.files.Archive(w, r, one.Stay, what)
}

// entry is a file or folder as the page shows it.
type entry struct {
	Name     string
	Link     string
	Folder   bool
	Size     int64
	Modified time.Time
	Gone     bool // it is not there now, or can't be had
}

// items are what the pass is for.
func (one *visitor) items() []entry {
	var shown []entry
	for n, at := range one.pass.Paths {
		e := entry{Name: baseOf(at), Link: strconv.Itoa(n) + "/" + written(baseOf(at))}
		if info, err := one.Tree.Stat(at); err != nil {
			e.Gone = true
		} else {
			e.about(info)
		}
		shown = append(shown, e)
	}
	return shown
}

func (e *entry) about(info fs.FileInfo) {
	e.Folder, e.Size, e.Modified = info.IsDir(), info.Size(), exchange.ModTime(info)
	if e.Folder {
		e.Link += "/"
	}
}

// inside are the files and folders in a folder; cut says that there are more.
func (one *visitor) inside(r *http.Request, at string) (shown []entry, cut bool, err error) {
	listing, err := one.Tree.ReadFolder(at)
	if err != nil {
		return nil, false, hidden(err)
	}
	defer listing.Close()
	for r.Context().Err() == nil {
		found, err := listing.Next(exchange.ListBuffer)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, false, err
		}
		for _, info := range found {
			if info.Mode()&fs.ModeSymlink != 0 {
				continue
			}
			if len(shown) == maxListed {
				return shown, true, nil
			}
			name := keep.Spell(info.Name())
			e := entry{Name: name, Link: "./" + written(name)}
			e.about(info)
			shown = append(shown, e)
		}
	}
	return shown, false, nil
}
