package portal

import (
	"crypto/rand"
	"errors"
	"net/http"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

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
	if ask.Inside {
		return exchange.DoneWith(w, one.Tree.RemoveAll(r.Context(), at))
	}
	if info, err := one.Tree.Lstat(at); err == nil && info.IsDir() {
		return exchange.DoneWith(w, one.Tree.Rmdir(at))
	}
	return exchange.DoneWith(w, one.Tree.Remove(at))
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

// copy copies a file or a folder with all that is in it; nothing is replaced.
func (s *Server) copy(w http.ResponseWriter, r *http.Request, one *stay) error {
	from, to, err := fromTo(w, r)
	if err == nil {
		_, err = one.Tree.Copy(r.Context(), from, to, tree.Taking{})
	}
	return exchange.DoneWith(w, err)
}
