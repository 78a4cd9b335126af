package portal

import (
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/files/picture"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

const (
	// maxEntries bounds the entries of a folder that are shown.
	maxEntries = 200_000
	// linesType is a list of which each line is JSON: it can be shown while it comes.
	linesType = "application/jsonl"
	// maxSearched and maxFound bound a search: the folders that are looked through, and what is found.
	maxSearched, maxFound = 5000, 1000
)

// may are the rights that the portal offers something for, by their names.
var may = []struct {
	right keep.Rights
	name  string
}{{keep.Upload, "upload"}, {keep.Mkdir, "mkdir"}, {keep.Download, "download"}, {keep.Overwrite, "overwrite"}, {keep.Rename, "rename"}, {keep.Delete, "delete"}, {keep.Rmdir, "rmdir"}}

// folder shows what is in a folder. As lines it comes as it is read from the disk: first the folder, then its
// entries, some in each line.
func (s *Server) folder(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := exchange.PathOf(r.URL.Query().Get("path"))
	if err != nil {
		return err
	}
	listing, err := one.Tree.ReadFolder(at)
	if err != nil {
		return err
	}
	defer listing.Close()
	shown := api.PortalFolder{Path: at, May: []string{}, Entries: []api.PortalEntry{}}
	for _, m := range may {
		if one.Tree.May(m.right, path.Join(at, "x")) {
			shown.May = append(shown.May, m.name)
		}
	}
	shown.BinSeconds = int64(one.Tree.BinTime() / time.Second)
	if space, err := one.Tree.Space(at); err == nil {
		shown.Free, shown.Room = int64(min(space.FreeBytes, 1<<62)), int64(min(space.Bytes, 1<<62))
	}
	key, err := one.Tree.Draws(path.Join(at, "x"))
	draws := err == nil && key != "" && one.Tree.May(keep.Download, path.Join(at, "x"))
	lines := r.Header.Get("Accept") == linesType
	send := func(batch []api.PortalEntry) error {
		shown.Entries = append(shown.Entries, batch...)
		return nil
	}
	if lines {
		w.Header().Set("Content-Type", linesType)
		to := json.NewEncoder(w)
		if err := to.Encode(shown); err != nil {
			return nil
		}
		send = func(batch []api.PortalEntry) error { return to.Encode(batch) }
	}
	n := 0
	err = each(r.Context(), listing, func(found []fs.FileInfo) error {
		batch := make([]api.PortalEntry, 0, len(found))
		for _, info := range found {
			if n++; n > maxEntries {
				shown.Cut = true
				return io.EOF
			}
			batch = append(batch, entryOf(info, draws))
		}
		return send(batch)
	})
	switch {
	case lines && err != nil && err != io.EOF:
		panic(http.ErrAbortHandler) // who reads sees that the list is not whole
	case lines:
		return nil
	case err != nil && err != io.EOF:
		return err
	}
	return exchange.Write(w, shown)
}

// stat tells of one file or folder.
func (s *Server) stat(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := exchange.PathOf(r.URL.Query().Get("path"))
	if err != nil {
		return err
	}
	info, err := one.Tree.Stat(at)
	if err != nil {
		return err
	}
	return exchange.Write(w, entryOf(info, false))
}

// each gives what is in a folder, as it is read. [io.EOF] of do ends it.
func each(ctx context.Context, listing *tree.Listing, do func([]fs.FileInfo) error) error {
	for ctx.Err() == nil {
		found, err := listing.Next(exchange.ListBuffer)
		if err == io.EOF {
			return nil
		}
		if err == nil {
			err = do(found)
		}
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

func entryOf(info fs.FileInfo, draws bool) api.PortalEntry {
	e := api.PortalEntry{Name: keep.Spell(info.Name()), Kind: "file", Size: info.Size(), Modified: exchange.ModTime(info)}
	switch mode := info.Mode(); {
	case mode.IsDir():
		e.Kind, e.Size = "folder", 0
	case mode&fs.ModeSymlink != 0:
		e.Kind = "link"
	default:
		e.Picture = draws && picture.Draws(e.Name, e.Size)
	}
	return e
}

// search finds what has a text in its name, below a folder; it comes as lines while it is found.
func (s *Server) search(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := exchange.PathOf(r.URL.Query().Get("path"))
	if err != nil {
		return err
	}
	text := strings.ToLower(strings.TrimSpace(r.URL.Query().Get("name")))
	if text == "" {
		return &keep.FieldError{Field: "name", Say: "say what is to be in the name"}
	}
	w.Header().Set("Content-Type", linesType)
	to, control := json.NewEncoder(w), http.NewResponseController(w)
	todo, searched, count, cut := []string{at}, 0, 0, false
	for len(todo) > 0 && !cut && r.Context().Err() == nil {
		in := todo[0]
		todo = todo[1:]
		if searched++; searched > maxSearched {
			cut = true
			break
		}
		listing, err := one.Tree.ReadFolder(in)
		if err != nil {
			continue // what may not be seen is not found
		}
		err = each(r.Context(), listing, func(found []fs.FileInfo) error {
			for _, info := range found {
				e := entryOf(info, false)
				if e.Kind == "folder" && len(todo) < maxSearched {
					todo = append(todo, path.Join(in, e.Name))
				}
				if !strings.Contains(strings.ToLower(e.Name), text) {
					continue
				}
				if count++; count > maxFound {
					cut = true
					return io.EOF
				}
				if err := to.Encode(api.PortalFound{In: in, PortalEntry: e}); err != nil {
					return err
				}
			}
			return nil
		})
		listing.Close()
		if err != nil && err != io.EOF {
			return nil
		}
		control.Flush()
	}
	to.Encode(api.PortalSearched{Folders: min(searched, maxSearched), Cut: cut})
	return nil
}

// why says in the holder's words why something is not allowed.
func (s *Server) why(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := exchange.PathOf(r.URL.Query().Get("path"))
	if err != nil {
		return err
	}
	for _, m := range may {
		if m.name != r.URL.Query().Get("right") {
			continue
		}
		answer := api.PortalWhy{May: true, Say: "you may do that"}
		if err := one.Tree.Why(m.right, at); err != nil {
			answer = api.PortalWhy{Say: err.Error()}
		}
		return exchange.Write(w, answer)
	}
	return &keep.FieldError{Field: "right", Say: "there is no such right"}
}
