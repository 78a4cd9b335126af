package service

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// world is what there is, as the disk and the records say, or as it should be: by the spot, "d", "f:" and the content, "l:" and
// where it leads.
type world struct {
	files map[string]string
	props map[string]string // by the spot
	locks map[string]string // account by the spot
	held  map[string]string // uploads that wait for their check, by whose and where
}

func (w world) clone() world {
	return world{maps.Clone(w.files), maps.Clone(w.props), maps.Clone(w.locks), maps.Clone(w.held)}
}

func (w world) equal(o world) bool {
	return maps.Equal(w.files, o.files) && maps.Equal(w.props, o.props) && maps.Equal(w.locks, o.locks) && maps.Equal(w.held, o.held)
}

// differs tells what one has and the other has not.
func (w world) differs(o world) string {
	var b strings.Builder
	for n, pair := range [][2]map[string]string{{w.files, o.files}, {w.props, o.props}, {w.locks, o.locks}, {w.held, o.held}} {
		what := []string{"", "property of ", "lock on ", "held for "}[n]
		for at, is := range pair[0] {
			if pair[1][at] != is {
				fmt.Fprintf(&b, "%s%s should be %q and is %q\n", what, at, is, pair[1][at])
			}
		}
		for at, is := range pair[1] {
			if _, known := pair[0][at]; !known {
				fmt.Fprintf(&b, "%s%s should not be and is %q\n", what, at, is)
			}
		}
	}
	return b.String()
}

func in(at, folder string) bool { return at == folder || strings.HasPrefix(at, folder+"/") }

// drop takes away what is at a spot with all below it; locks on the very spot stay with own.
func (w world) drop(spot string, own bool) {
	maps.DeleteFunc(w.files, func(at, _ string) bool { return in(at, spot) })
	maps.DeleteFunc(w.props, func(at, _ string) bool { return in(at, spot) })
	maps.DeleteFunc(w.locks, func(at, _ string) bool { return in(at, spot) && !(own && at == spot) })
}

// someone is an account as the model knows it.
type someone struct {
	name   string
	mounts map[string]string // spots by the path in the tree
	grants []keep.Grant
	bin    bool
	visit  davVisit
	stay   *exchange.Stay
	tokens []string
}

func (a *someone) rights(at string) (given keep.Rights) {
	for p := at; ; p = path.Dir(p) {
		decides := false
		for _, g := range a.grants {
			if g.Path == p {
				decides, given = true, given|g.Rights
			}
		}
		if decides || p == "/" {
			return given
		}
	}
}

func (a *someone) mountOf(at string) string {
	for p := at; ; p = path.Dir(p) {
		if _, is := a.mounts[p]; is {
			return p
		}
	}
}

func (a *someone) spot(at string) string {
	m := a.mountOf(at)
	return strings.TrimSuffix(a.mounts[m]+"/"+strings.TrimPrefix(strings.TrimPrefix(at, m), "/"), "/")
}

// real follows the links on the way to a path, and with follow the one at its end.
func (a *someone) real(w world, at string, follow bool) string {
	for range 50 {
		parts, way, again := strings.Split(strings.Trim(at, "/"), "/"), "/", false
		for n, part := range parts {
			here := path.Join(way, part)
			target, led := strings.CutPrefix(w.files[a.spot(here)], "l:")
			if led && (follow || n < len(parts)-1) {
				m := a.mountOf(here)
				if below := path.Join(strings.TrimPrefix(strings.TrimPrefix(way, m), "/"), target, path.Join(parts[n+1:]...)); below == ".." || strings.HasPrefix(below, "../") {
					return "/a maze" // links don't leave their mount
				}
				at, again = path.Join(append([]string{way, target}, parts[n+1:]...)...), true
				break
			}
			way = here
		}
		if !again {
			return at
		}
	}
	return "/a maze"
}

// below are the paths of a tree, in the store's, of all that is at a path and below it, mounts left out.
func (a *someone) below(w world, at string) (found []string) {
	spot := a.spot(at)
	for other := range w.files {
		if in(other, spot) {
			found = append(found, at+strings.TrimPrefix(other, spot))
		}
	}
	slices.Sort(found)
	return found
}
