package web

import (
	"embed"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/protocol/exchange"
)

// dist is the built console; make puts it there.
//
//go:embed all:dist
var dist embed.FS

// consolePath is where the console lies.
const consolePath = "/console/"

// console serves the console's files. A path that is no file is a page of the
// console, which finds its way itself.
func (s *Server) console(c *gin.Context) error {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		return errNoAddress
	}
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		return err
	}
	name, ours := strings.CutPrefix(path.Clean(c.Request.URL.Path), strings.TrimSuffix(consolePath, "/"))
	name = strings.TrimPrefix(name, "/")
	if info, err := fs.Stat(files, name); name == "" || err != nil || info.IsDir() {
		if strings.HasPrefix(name, "assets/") || !ours && strings.Contains(name, ".") {
			return errNoAddress
		}
		if !ours { // as bookmarks from before the console had a place of its own
			to := url.URL{Path: consolePath + name, RawQuery: c.Request.URL.RawQuery}
			c.Redirect(http.StatusFound, to.String())
			return nil
		}
		name = "index.html"
	}
	if _, err := fs.Stat(files, name); err != nil {
		return &exchange.Problem{Status: http.StatusNotFound, Say: "the console is not built into this program: run make build"}
	}
	if strings.HasPrefix(name, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable") // their names hold a digest of their contents
	} else {
		c.Header("Cache-Control", "no-cache")
	}
	if name == "index.html" {
		// ServeFileFS would send the browser from /index.html to /.
		text, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		c.Data(http.StatusOK, "text/html; charset=utf-8", text)
		return nil
	}
	http.ServeFileFS(c.Writer, c.Request, files, name)
	return nil
}

// PassAssets serves the scripts and looks of the page of passes.
func PassAssets() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		files, err := fs.Sub(dist, "dist/pass")
		name := path.Base(r.URL.Path)
		if name == "mark.svg" {
			files, err = fs.Sub(dist, "dist")
		}
		if err != nil {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Cache-Control", "public, max-age=3600")
		http.ServeFileFS(w, r, files, name)
	})
}

// PortalPages serves the portal's files, which are built together with the console's.
func PortalPages() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		files, err := fs.Sub(dist, "dist/portal")
		if err != nil {
			http.NotFound(w, r)
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/portal/")
		if _, err := fs.Stat(files, name); strings.HasPrefix(name, "assets/") && err == nil {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			http.ServeFileFS(w, r, files, name)
			return
		}
		switch name { // its pages, as somebody may type them
		case "account", "passes", "notices":
			http.Redirect(w, r, "/portal/#"+name, http.StatusFound)
			return
		}
		text, err := fs.ReadFile(files, "portal.html")
		if err != nil || name != "" && name != "." && name != "/portal" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		w.Write(text)
	})
}
