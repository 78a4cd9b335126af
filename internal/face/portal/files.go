package portal

import (
	"net/http"
	"path"
	"strings"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

func fileOf(r *http.Request, prefix string) (string, error) {
	return exchange.PathOf("/" + strings.TrimPrefix(r.URL.Path, prefix))
}

// download gives a file. Browsers save it.
func (s *Server) download(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := fileOf(r, filesPrefix)
	if err != nil {
		return err
	}
	return s.files.Send(w, r, one.Stay, at, exchange.Saved)
}

// upload writes a file that comes whole in one request.
func (s *Server) upload(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := fileOf(r, filesPrefix)
	if err == nil {
		_, err = s.files.Put(w, r, one.Stay, at)
	}
	return exchange.DoneWith(w, err)
}

// archive sends a folder, or some of what is in it, as one archive.
func (s *Server) archive(w http.ResponseWriter, r *http.Request, one *stay) error {
	at, err := exchange.PathOf(r.URL.Query().Get("path"))
	if err != nil {
		return err
	}
	info, err := one.Tree.Stat(at)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return keep.Refuse(keep.NotAFolder, "that is not a folder")
	}
	title := path.Base(at)
	if at == "/" {
		title = "files"
	}
	return s.files.Archive(w, r, one.Stay, exchange.Archive{Kind: strings.TrimPrefix(r.URL.Path, Prefix), Title: title, At: at, Names: r.URL.Query()["name"]})
}
