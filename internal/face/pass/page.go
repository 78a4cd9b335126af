package pass

import (
	_ "embed"
	"html/template"
	"net/http"
	"path"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"size": func(n int64) string { return keep.SaySize(n) },
	"minute": func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format("2006-01-02 15:04")
	},
	"day": func(t time.Time) string { return t.UTC().Format("2 January 2006, 15:04 UTC") },
}).Parse(pageText))

// shown is what the page shows.
type shown struct {
	Service, Banner string
	Home            string // the address of the link
	Pass            *keep.Pass
	Said            string   // by whoever made it
	In              []string // the folders that lead to this one; none: the pass itself
	Up              string
	Entries         []entry
	Cut             bool
	Fetches, Drops  bool
	Own             []entry // what the visitor has left
	Archive         string  // what follows zip and tar
	Curl            []string
	MayMove         string // of bytes; "": any
	Password        bool   // it asks for one

	Status  int // of a trouble
	Trouble string
	Asks    bool // for a password
}

func (s *Server) frame(r *http.Request) shown {
	name, banner := s.Name(r)
	return shown{Service: name, Banner: banner}
}

// home is the address of a link as the visitor has it.
func (s *Server) home(r *http.Request, secret keep.Secret) string {
	scheme := "http://"
	if s.Told(r) {
		scheme = "https://"
	}
	return scheme + r.Host + Prefix + secret.Reveal() + "/"
}

func (s *Server) render(w http.ResponseWriter, status int, what shown) error {
	var text strings.Builder
	if err := page.Execute(&text, what); err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, err := w.Write([]byte(text.String()))
	_ = err // whoever asked has left
	return nil
}

// page shows what a pass is for.
func (s *Server) page(w http.ResponseWriter, r *http.Request, one *visitor) error {
	return s.show(w, r, one, "")
}

// show shows a pass, or a folder of one.
func (s *Server) show(w http.ResponseWriter, r *http.Request, one *visitor, folder string) error {
	if err := one.visit.Usable(r.Context()); err != nil {
		return err
	}
	p := &one.pass
	what := s.frame(r)
	what.Home, what.Pass, what.Said, what.Fetches, what.Drops = s.home(r, one.secret), p, p.Text, fetches(p), p.Kind == keep.DropPass && folder == ""
	what.Own = one.drops.all()
	user := ""
	if p.Password != "" {
		user = " -u :" // curl asks for the password
	}
	if left := one.visit.Left(); left >= 0 {
		what.MayMove = keep.SaySize(left)
	}
	var err error
	switch {
	case folder != "":
		what.In = strings.Split(strings.TrimSuffix(r.PathValue("path"), "/"), "/")
		what.Up = "../"
		if len(what.In) == 1 {
			what.Up = what.Home
		}
		what.Entries, what.Cut, err = one.inside(r, folder)
		what.Archive = "?in=" + template.URLQueryEscaper(r.PathValue("item")+"/"+strings.TrimSuffix(r.PathValue("path"), "/"))
	case p.Kind == keep.DropPass && p.Shows:
		what.Entries, what.Cut, err = one.inside(r, p.Paths[0])
		for i := range what.Entries {
			what.Entries[i].Link = "0/" + written(baseOf(p.Paths[0])) + "/" + strings.TrimPrefix(what.Entries[i].Link, "./")
		}
	case what.Fetches:
		if what.Entries = one.items(); len(what.Entries) == 1 && what.Entries[0].Folder {
			link := what.Entries[0].Link
			if what.Entries, what.Cut, err = one.inside(r, p.Paths[0]); err == nil {
				for i := range what.Entries {
					what.Entries[i].Link = link + strings.TrimPrefix(what.Entries[i].Link, "./")
				}
			}
		}
	}
	if err != nil {
		return err
	}
	if what.Drops {
		from := ""
		if p.Asks {
			from = " -H 'From: Your Name <you@example.com>'"
		}
		what.Curl = append(what.Curl, "curl -T FILE"+user+from+" "+quoted(what.Home))
	}
	if what.Fetches && len(what.Entries) == 1 && !what.Entries[0].Folder && !what.Entries[0].Gone {
		what.Curl = append(what.Curl, "curl"+user+" -OJ "+quoted(what.Home+linkBelow(r, &what.Entries[0])))
	} else if what.Fetches && len(what.Entries) > 0 {
		what.Curl = append(what.Curl, "curl"+user+" -OJ "+quoted(what.Home+"zip"+what.Archive))
	}
	return s.render(w, http.StatusOK, what)
}

// linkBelow is where an entry lies below the link.
func linkBelow(r *http.Request, e *entry) string {
	if item := r.PathValue("item"); item != "" {
		return item + "/" + written(path.Join(r.PathValue("path"), e.Name))
	}
	return e.Link
}

// quoted makes one word of a POSIX shell of an address.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// trouble shows why nothing can be had, and asks for a password where one is missing.
func (s *Server) trouble(w http.ResponseWriter, r *http.Request, status int, say string, asks bool) {
	what := s.frame(r)
	what.Status, what.Trouble, what.Asks = status, strings.ToUpper(say[:1])+say[1:]+".", asks
	what.Home = s.home(r, keep.Secret(r.PathValue("secret")))
	if err := s.render(w, status, what); err != nil {
		s.Log.Error("the page of a pass can't be drawn", "cause", err)
	}
}
