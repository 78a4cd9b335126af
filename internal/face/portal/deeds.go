package portal

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// maxAtOnce bounds the files and folders that one request copies or removes.
const maxAtOnce = 200_000

func (s *Server) makeFolder(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalPath
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	at, err := exchange.PathOf(ask.Path)
	if err == nil {
		err = one.Tree.Mkdir(at, nil)
	}
	return exchange.DoneWith(w, err)
}

func (s *Server) rename(w http.ResponseWriter, r *http.Request, one *stay) error {
	from, to, err := fromTo(w, r)
	if err == nil {
		err = one.Tree.Rename(from, to, false)
	}
	return exchange.DoneWith(w, err)
}

func fromTo(w http.ResponseWriter, r *http.Request) (from, to string, err error) {
	var ask api.PortalRename
	if err := exchange.Read(w, r, &ask); err != nil {
		return "", "", err
	}
	from, err1 := exchange.PathOf(ask.Path)
	to, err2 := exchange.PathOf(ask.To)
	return from, to, errors.Join(err1, err2)
}

// remove deletes a file or a folder; one that is not empty where that is said to be meant. An account that has a bin can
// put it back, unless it is deleted for good.
func (s *Server) remove(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalRemoval
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	at, err := exchange.PathOf(ask.Path)
	if err != nil {
		return err
	}
	if one.Tree.BinTime() > 0 && !ask.ForGood {
		info, err := one.Tree.Lstat(at)
		if err != nil {
			return err
		}
		if ask.Inside || !info.IsDir() {
			id := rand.Text()
			if err := one.visit.Discard(r.Context(), one.Tree, at, id); err != nil {
				return err
			}
			return exchange.Write(w, api.PortalBinning{ID: id})
		}
	}
	n := 0
	return exchange.DoneWith(w, removeAll(r.Context(), one.Tree, at, ask.Inside, 0, &n))
}

// bin shows what the holder can put back.
func (s *Server) bin(w http.ResponseWriter, r *http.Request, one *stay) error {
	found, err := one.visit.Bin(r.Context())
	shown := api.PortalBin{Items: []api.PortalBinned{}}
	for _, b := range found {
		shown.Items = append(shown.Items, api.PortalBinned{ID: b.ID, Path: b.Path, Folder: b.Folder, Size: b.Size, Deleted: b.Deleted.UTC(), Until: b.Until.UTC()})
	}
	if err != nil {
		return err
	}
	return exchange.Write(w, shown)
}

func (s *Server) putBack(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalPutBack
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	if at, err := exchange.PathOf("/" + ask.Name); err != nil || at[1:] != ask.Name || strings.Contains(ask.Name, "/") {
		return &keep.FieldError{Field: "name", Say: "that is no name: leave out /"}
	}
	return exchange.DoneWith(w, one.visit.PutBack(r.Context(), one.Tree, r.PathValue("id"), ask.Name))
}

func (s *Server) emptyBin(w http.ResponseWriter, r *http.Request, one *stay) error {
	return exchange.DoneWith(w, one.visit.EmptyBin(r.Context(), r.PathValue("id")))
}

func removeAll(ctx context.Context, t *tree.Tree, at string, inside bool, depth int, n *int) error {
	info, err := t.Lstat(at)
	if err != nil || !info.IsDir() {
		return t.Remove(at)
	}
	if inside {
		err := names(ctx, t, at, depth, n, func(name string) error { return removeAll(ctx, t, path.Join(at, name), true, depth+1, n) })
		if err != nil {
			return err
		}
	}
	return t.Rmdir(at)
}

var errDeep = keep.Refuse(keep.BadRequest, "the folders lie too deep in one another: take one further down")

// names does something with each name in a folder, as they were when it was read.
func names(ctx context.Context, t *tree.Tree, at string, depth int, n *int, do func(name string) error) error {
	if depth > exchange.MaxDepth {
		return errDeep
	}
	listing, err := t.ReadFolder(at)
	if err != nil {
		return err
	}
	defer listing.Close()
	var found []string
	err = each(ctx, listing, func(batch []fs.FileInfo) error {
		for _, info := range batch {
			if *n++; *n > maxAtOnce {
				return keep.Refuse(keep.TooLarge, fmt.Sprintf("that is more than %d files and folders: take a part of it", maxAtOnce))
			}
			found = append(found, keep.Spell(info.Name()))
		}
		return nil
	})
	for _, name := range found {
		if err == nil {
			err = do(name)
		}
	}
	return err
}

// copy copies a file or a folder with all that is in it; nothing is replaced.
func (s *Server) copy(w http.ResponseWriter, r *http.Request, one *stay) error {
	from, to, err := fromTo(w, r)
	if err != nil {
		return err
	}
	if keep.Covers(from, to) {
		return keep.Refuse(keep.BadRequest, "a folder can't be copied into itself")
	}
	n := 0
	return exchange.DoneWith(w, s.copyAll(r.Context(), one, from, to, 0, &n))
}

func (s *Server) copyAll(ctx context.Context, one *stay, from, to string, depth int, n *int) error {
	info, err := one.Tree.Stat(from)
	switch {
	case err != nil:
		return err
	case !info.IsDir():
		return s.copyFile(ctx, one, from, to)
	}
	if err := one.Tree.Mkdir(to, nil); err != nil {
		return err
	}
	return names(ctx, one.Tree, from, depth, n, func(name string) error {
		return s.copyAll(ctx, one, path.Join(from, name), path.Join(to, name), depth+1, n)
	})
}

// copyFile is a download and an upload on this side: both are measured and recorded as such.
func (s *Server) copyFile(ctx context.Context, one *stay, from, to string) error {
	source, err := one.Tree.Open(from, tree.OpenMode{Read: true})
	if err != nil {
		return err
	}
	info, err := source.Stat()
	if err != nil {
		source.Abort(err)
		return err
	}
	if err := s.files.Write(ctx, one.Stay, to, io.NewSectionReader(source, 0, info.Size()), info.Size(), false); err != nil {
		source.Abort(err)
		return err
	}
	return source.Close()
}
