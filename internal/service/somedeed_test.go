package service

import (
	"fmt"
	"maps"
	"net/http"
	"path"
	"slices"
	"strings"

	"urbankeep/internal/keep"
)

// deed is something that is done: what the world is afterwards, when it is done, and what it took.
type deed struct {
	says string
	do   func() error
	then func(w world)                  // what it makes of the world
	need func(w world) (missing string) // which right is missing: it must not be done then
	part bool                           // what is left of it in the middle may be a part
	dav  bool                           // locks hold against it
	hits []string                       // spots that it changes, as locks see it
	deep []string                       // spots that it changes with all below them
}

func (h *history) somePath() string {
	at := ""
	for range 1 + h.r.IntN(3) {
		at += "/" + []string{"a", "b", "c", "s", "o", "l"}[h.r.IntN(6)]
	}
	return at
}

// likelyPath is mostly one of something that is there.
func (h *history) likelyPath(a *someone, w world) string {
	all := slices.Sorted(maps.Keys(w.files))
	for range 5 {
		spot := all[h.r.IntN(len(all))]
		if h.r.IntN(3) == 0 {
			spot += "/" + []string{"a", "b", "c", "l"}[h.r.IntN(4)]
		}
		for _, m := range slices.Sorted(maps.Keys(a.mounts)) {
			if at := path.Join(m, strings.TrimPrefix(spot, a.mounts[m])); in(spot, a.mounts[m]) && a.mountOf(at) == m && at != "/" && m != checked {
				return at
			}
		}
	}
	return h.somePath()
}

func codeError(code int) error {
	if code >= 200 && code < 300 && code != http.StatusMultiStatus {
		return nil
	}
	return fmt.Errorf("answered %d", code)
}

func lacks(a *someone, at string, right keep.Rights) string {
	if a.rights(at).Has(right) {
		return ""
	}
	return right.String() + " on " + at
}

// toWrite is the right that an upload to a path takes: a file that the account has made by its lock is one to be filled.
func (a *someone) toWrite(w world, at string) keep.Rights {
	if is := w.files[a.spot(at)]; is == "" || is == "f:" && w.locks[a.spot(at)] == a.name {
		return keep.Upload
	}
	return keep.Overwrite
}

// needs are the rights that it takes to have all that is at a path go; a folder is gone through.
func needsToGo(a *someone, w world, at string) string {
	for _, one := range a.below(w, at) {
		right := keep.Delete
		if w.files[a.spot(one)] == "d" {
			right = keep.Rmdir
		}
		if no := lacks(a, one, right); no != "" {
			return no
		}
	}
	return ""
}

func (h *history) giveWay(a *someone, w world, to string) string {
	switch is := w.files[a.spot(to)]; {
	case is == "":
		return ""
	case is != "d":
		return lacks(a, to, keep.Overwrite)
	}
	return needsToGo(a, w, to)
}

// some is a random deed of whoever acts.
func (h *history) some(w world) deed {
	if h.r.IntN(4) == 0 {
		return h.someHeld(w)
	}
	a := h.acts
	at, to := h.likelyPath(a, w), h.likelyPath(a, w)
	self, led := a.real(w, at, false), a.real(w, at, true)
	target := a.real(w, to, false)
	for _, one := range []string{self, led, target} {
		if w.held[heldKey(a.name, a.spot(one))] != "" {
			return h.someHeld(w) // it finds there what it has sent
		}
	}
	h.content++
	text := fmt.Sprintf("content %d", h.content)
	fresh := func(at string) []string { // a name that is new changes its folder too
		if w.files[a.spot(at)] == "" {
			return []string{a.spot(at), path.Dir(a.spot(at))}
		}
		return []string{a.spot(at)}
	}
	switch h.r.IntN(13) {
	case 12: // an upload that does not come to its end
		return deed{says: "half of " + at, do: func() error { return h.half(at) }, then: func(world) {}, need: func(w world) string {
			return lacks(a, led, a.toWrite(w, led))
		}}
	case 0, 1: // a move, over WebDAV or as by SFTP
		d := deed{says: "MOVE " + at + " to " + to, dav: true, hits: append(fresh(target), a.spot(self), path.Dir(a.spot(self))), deep: []string{a.spot(self), a.spot(target)},
			do: func() error { return codeError(h.ask("MOVE", at, "", "Destination", "/dav"+escaped(to))) }}
		if h.r.IntN(2) == 0 {
			d.says, d.dav = "rename "+at+" to "+to, false
			d.do = func() error { return a.stay.Tree.Rename(at, to, true) }
		}
		d.need = func(w world) string {
			if a.spot(self) == a.spot(target) {
				if d.dav {
					return "a move to itself"
				}
				return ""
			}
			if in(a.spot(target), a.spot(self)) || in(a.spot(self), a.spot(target)) {
				return "a move into itself"
			}
			if no := h.giveWay(a, w, target); no != "" {
				return no
			}
			far := strings.Split(a.spot(self), ":")[0] != strings.Split(a.spot(target), ":")[0]
			for _, one := range a.below(w, self) {
				there := target + strings.TrimPrefix(one, self)
				right := []keep.Rights{keep.Rename, keep.Rename}
				if far {
					right = []keep.Rights{keep.Download | keep.Delete, keep.Upload}
					if w.files[a.spot(one)] == "d" {
						right = []keep.Rights{keep.Rmdir, keep.Mkdir}
					} else if w.files[a.spot(there)] != "" {
						right[1] = keep.Overwrite
					}
				}
				if no := lacks(a, one, right[0]) + lacks(a, there, right[1]); no != "" {
					return no
				}
			}
			return ""
		}
		d.then = func(w world) {
			from, into := a.spot(self), a.spot(target)
			if from == into {
				return
			}
			before := w.clone()
			w.drop(into, true)
			far := strings.Split(from, ":")[0] != strings.Split(into, ":")[0]
			var come func(at, into string)
			come = func(at, into string) { // a copy: links are what they lead to
				at = a.real(before, at, true)
				if strings.Count(into, "/") > 20 || before.files[a.spot(at)] == "" {
					return // without an end, which is refused; or a link of what stays that leads nowhere
				}
				w.files[into] = before.files[a.spot(at)]
				for spot := range before.files {
					if path.Dir(spot) == a.spot(at) {
						come(path.Join(at, path.Base(spot)), path.Join(into, path.Base(spot)))
					}
				}
			}
			if far {
				come(self, into)
			}
			for _, one := range a.below(before, self) {
				spot := a.spot(one)
				if !far {
					w.files[into+strings.TrimPrefix(spot, from)] = before.files[spot]
				}
				if value, has := w.props[spot]; has {
					w.props[into+strings.TrimPrefix(spot, from)] = value
				}
			}
			w.drop(from, false)
		}
		return d
	case 2, 3: // a copy
		replace := h.r.IntN(4) > 0
		d := deed{says: fmt.Sprintf("COPY %s to %s, replace %t", at, to, replace), dav: true, hits: fresh(target), deep: []string{a.spot(target)}}
		d.do = func() error {
			return codeError(h.ask("COPY", at, "", "Destination", "/dav"+escaped(to), "Overwrite", map[bool]string{true: "T", false: "F"}[replace]))
		}
		copied := map[string]string{} // by the spot where it comes
		lack := ""
		var gather func(from, into string, ways []string)
		gather = func(from, into string, ways []string) {
			from = a.real(w, from, true)
			is := w.files[a.spot(from)]
			if is == "d" && slices.ContainsFunc(append(ways, a.spot(target)), func(way string) bool { return in(way, a.spot(from)) }) {
				lack = "an end of it"
			}
			if is == "" || lack == "an end of it" {
				return
			}
			ways = append(slices.Clone(ways), a.spot(from))
			copied[a.spot(into)] = is
			if is != "d" {
				right := keep.Upload
				if into == target && strings.HasPrefix(w.files[a.spot(into)], "f:") {
					right = keep.Overwrite
				}
				lack += lacks(a, from, keep.Download) + lacks(a, into, right)
				return
			}
			lack += lacks(a, into, keep.Mkdir)
			for spot := range w.files {
				if path.Dir(spot) == a.spot(from) {
					child := path.Join(from, path.Base(spot))
					if _, mount := a.mounts[child]; mount {
						continue
					}
					if w.files[spot] != "d" && !a.rights(child).Has(keep.List) || w.files[spot] == "d" && !h.any(a, child) {
						continue // it does not see it
					}
					gather(child, path.Join(into, path.Base(spot)), ways)
				}
			}
			for m := range a.mounts {
				if m != "/" && path.Dir(m) == from {
					gather(m, path.Join(into, path.Base(m)), ways)
				}
			}
		}
		gather(led, target, nil)
		d.need = func(w world) string {
			if a.spot(led) == a.spot(target) || in(a.spot(target), a.spot(led)) || in(a.spot(led), a.spot(target)) {
				return "a copy into itself"
			}
			if !replace && w.files[a.spot(target)] != "" {
				return "the name"
			}
			if no := h.giveWay(a, w, target); no != "" {
				return no
			}
			return lack
		}
		d.then = func(w world) {
			into := a.spot(target)
			var props = map[string]string{}
			for spot, value := range w.props {
				if in(spot, a.spot(led)) {
					props[into+strings.TrimPrefix(spot, a.spot(led))] = value
				}
			}
			w.drop(into, true)
			maps.Copy(w.files, copied)
			maps.Copy(w.props, props)
		}
		return d
	case 4: // a deletion with all that is in it
		return deed{says: "DELETE " + at, dav: true, part: true, hits: []string{a.spot(self), path.Dir(a.spot(self))}, deep: []string{a.spot(self)},
			do:   func() error { return codeError(h.ask("DELETE", at, "")) },
			need: func(w world) string { return needsToGo(a, w, self) },
			then: func(w world) { w.drop(a.spot(self), false) }}
	case 5: // a deletion as by SFTP
		return deed{says: "remove " + at,
			do: func() error {
				if w.files[a.spot(self)] == "d" {
					return a.stay.Tree.Rmdir(at)
				}
				return a.stay.Tree.Remove(at)
			},
			need: func(w world) string { return needsToGo(a, w, self) },
			then: func(w world) { w.drop(a.spot(self), false) }}
	case 6, 7: // an upload
		return deed{says: "PUT " + at, dav: true, hits: fresh(led),
			do: func() error { return codeError(h.ask("PUT", at, text)) },
			need: func(w world) string {
				return lacks(a, led, a.toWrite(w, led))
			},
			then: func(w world) { w.files[a.spot(led)] = "f:" + text }}
	case 8:
		return deed{says: "MKCOL " + at, dav: true, hits: []string{a.spot(self), path.Dir(a.spot(self))},
			do:   func() error { return codeError(h.ask("MKCOL", at, "")) },
			need: func(w world) string { return lacks(a, self, keep.Mkdir) },
			then: func(w world) { w.files[a.spot(self)] = "d" }}
	case 9:
		link := []string{path.Base(to), "../" + path.Base(to), "."}[h.r.IntN(3)]
		return deed{says: "link " + at + " to " + link,
			do:   func() error { return a.stay.Tree.Symlink(link, at) },
			need: func(w world) string { return lacks(a, self, keep.Link) },
			then: func(w world) { w.files[a.spot(self)] = "l:" + link }}
	case 10:
		return deed{says: "LOCK " + at, dav: true, hits: fresh(led),
			do: func() error {
				return codeError(h.ask("LOCK", at, `<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`, "Depth", "0"))
			},
			need: func(w world) string {
				on := led
				if w.files[a.spot(led)] == "d" {
					on = path.Join(led, "x")
				}
				if a.rights(on)&(keep.Overwrite|keep.Upload|keep.Rename|keep.Delete|keep.Mkdir) == 0 {
					return "any right to change " + on
				}
				return ""
			},
			then: func(w world) {
				if w.files[a.spot(led)] == "" {
					w.files[a.spot(led)] = "f:"
				}
				w.locks[a.spot(led)] = a.name
			}}
	default:
		value := fmt.Sprint(h.content)
		return deed{says: "PROPPATCH " + at, dav: true, hits: []string{a.spot(led)},
			do: func() error {
				code := h.ask("PROPPATCH", at, `<propertyupdate xmlns="DAV:"><set><prop><p xmlns="u:">`+value+`</p></prop></set></propertyupdate>`)
				if code == http.StatusMultiStatus {
					return nil
				}
				return codeError(code)
			},
			need: func(w world) string {
				if a.rights(led)&(keep.Touch|keep.Overwrite) == 0 {
					return "touch on " + led
				}
				return ""
			},
			then: func(w world) { w.props[a.spot(led)] = value }}
	}
}

func (h *history) any(a *someone, at string) bool {
	if a.rights(at) != 0 {
		return true
	}
	return slices.ContainsFunc(a.grants, func(g keep.Grant) bool { return keep.Covers(at, g.Path) && g.Rights != 0 })
}
