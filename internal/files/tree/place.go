package tree

import (
	"path"
	"slices"
	"strings"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Place is where a path leads. Two paths are the same when their spots are; what one path says of another says nothing.
type Place struct {
	Spot quota.Spot
	Path string // in the tree, after the links on the way: rights are decided on it
}

// Place finds where a clean path leads, whether something is there or not: what a link at its end leads to, with follow, else
// the link's own.
func (t *Tree) Place(at string, follow bool) (found Place, err error) {
	err = t.AtPlace(at, follow, func(p Place) error {
		found = p
		return nil
	})
	return found, asFault(err)
}

// AtPlace is Place for somebody who writes down where it is: it stays there until they have.
func (t *Tree) AtPlace(at string, follow bool, do func(Place) error) error {
	defer t.deed(at)()
	p, err := t.resolve(at, follow, keep.Upload)
	if err != nil {
		return asFault(err)
	}
	defer p.close()
	return do(Place{p.named(), p.path})
}

// PathTo is the path of the tree that leads to a spot, whether something is there or not; false when none does.
func (t *Tree) PathTo(spot quota.Spot) (at string, known bool) {
	for _, m := range t.mounts { // deepest first
		if !spot.Within(m.spot) {
			continue
		}
		rel := spot.Path
		if m.spot.Path != "." {
			rel = strings.TrimPrefix(strings.TrimPrefix(spot.Path, m.spot.Path), "/")
		} else if rel == "." {
			rel = ""
		}
		if at = path.Join(m.at, rel); t.mountOf(at) == m && !hiddenOnTheWay(rel) && (m.spot.Path != "." || !reserved(rel)) {
			return at, true
		}
	}
	return "", false
}

// Mounts reports whether a folder that the tree has mounted lies at a spot or below it.
func (t *Tree) Mounts(at quota.Spot) bool {
	return slices.ContainsFunc(t.mounts, func(m *mounted) bool { return m.spot.Within(at) })
}

// hidden is the place of a name that no account sees, in the folder of another.
func (p *place) hidden(name string) place {
	hidden := *p
	hidden.name, hidden.path, hidden.held, hidden.owned = name, p.path[:len(p.path)-len(p.spelling())]+name, "", false
	return hidden
}

// aside is where a deed puts aside what has a place, and stage where a copy is made that is to have it.
func (p *place) aside(id string) place { return p.hidden(store.AsidePrefix + id) }
func (p *place) stage(id string) place { return p.hidden(store.StagePrefix + id) }
