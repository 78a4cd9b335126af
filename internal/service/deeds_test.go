package service

import (
	"context"
	"flag"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/dav"
	"urbankeep/internal/protocol/exchange"
)

var (
	deedHistories = flag.Int("deed-histories", 250, "random histories of deeds that are held against the model")
	deedSeed      = flag.Uint64("deed-seed", 0, "repeats a run; 0: a new one")
)

// injury is what becomes of the stores at a random step of a deed: it fails, or the process ends there.
type injury struct {
	left  int // steps until then; below 0: never
	kills bool
	dead  bool
	hurt  bool // it has come to pass
}

var errInjured = &fs.PathError{Op: "injure", Path: "store", Err: syscall.EIO}

// step is asked before each step that changes a store or a deed that is written down.
func (i *injury) step() error {
	if i.dead {
		return errInjured
	}
	if i.left--; i.left != -1 {
		return nil
	}
	i.hurt, i.dead = true, i.kills
	return errInjured
}

// frail is a folder that fails when it is told to.
type frail struct {
	store.Folder
	*injury
	store string // nothing is moved from one to another
}

func (f frail) wrap(folder store.Folder, err error) (store.Folder, error) {
	if err != nil {
		return nil, err
	}
	return frail{folder, f.injury, f.store}, nil
}
func (f frail) Enter(name string) (store.Folder, error) { return f.wrap(f.Folder.Enter(name)) }
func (f frail) Cross(rel string) (store.Folder, error)  { return f.wrap(f.Folder.Cross(rel)) }
func (f frail) Mkdir(name string, mode fs.FileMode) error {
	return firstOf(f.step, func() error { return f.Folder.Mkdir(name, mode) })
}
func (f frail) Remove(name string, folder bool) error {
	return firstOf(f.step, func() error { return f.Folder.Remove(name, folder) })
}
func (f frail) Rename(name string, to store.Folder, target string, replace bool) error {
	if to.(frail).store != f.store {
		return &fs.PathError{Op: "rename", Path: name, Err: syscall.EXDEV}
	}
	return firstOf(f.step, func() error { return f.Folder.Rename(name, to.(frail).Folder, target, replace) })
}
func (f frail) Open(name string, flag int, mode fs.FileMode) (store.File, error) {
	if flag&(os.O_WRONLY|os.O_RDWR) != 0 {
		if err := f.step(); err != nil {
			return nil, err
		}
	}
	return f.Folder.Open(name, flag, mode)
}
func (f frail) Symlink(text, name string) error {
	return firstOf(f.step, func() error { return f.Folder.(store.Linker).Symlink(text, name) })
}
func (f frail) Readlink(name string) (string, error) { return f.Folder.(store.Linker).Readlink(name) }
func (f frail) Link(name string, to store.Folder, target string) error {
	return firstOf(f.step, func() error { return f.Folder.(store.Linker).Link(name, to.(frail).Folder, target) })
}

func firstOf(one, two func() error) error {
	if err := one(); err != nil {
		return err
	}
	return two()
}

// frailHangs fails with the stores.
type frailHangs struct {
	tree.Hangings
	*injury
}

func (h frailHangs) Begin(d keep.Deed) error {
	return firstOf(h.step, func() error { return h.Hangings.Begin(d) })
}
func (h frailHangs) Commit(d keep.Deed, over bool) error {
	return firstOf(h.step, func() error { return h.Hangings.Commit(d, over) })
}
func (h frailHangs) Forget(id string) error {
	return firstOf(h.step, func() error { return h.Hangings.Forget(id) })
}

// world is what there is, as the disk and the records say, or as it should be: by the spot, "d", "f:" and the content, "l:" and
// where it leads.
type world struct {
	files map[string]string
	props map[string]string // by the spot
	locks map[string]string // account by the spot
}

func (w world) clone() world {
	return world{maps.Clone(w.files), maps.Clone(w.props), maps.Clone(w.locks)}
}

func (w world) equal(o world) bool {
	return maps.Equal(w.files, o.files) && maps.Equal(w.props, o.props) && maps.Equal(w.locks, o.locks)
}

// differs tells what one has and the other has not.
func (w world) differs(o world) string {
	var b strings.Builder
	for n, pair := range [][2]map[string]string{{w.files, o.files}, {w.props, o.props}, {w.locks, o.locks}} {
		what := []string{"", "property of ", "lock on "}[n]
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

// history is one random history.
type history struct {
	t       *testing.T
	s       *Service
	server  *dav.Server
	db      *sqlx.DB
	dir     string // of both stores
	root    string // the folder of this history in each
	r       *rand.Rand
	injury  *injury
	who     []*someone
	acts    *someone
	story   []string
	content int
	did     map[string]int
}

func (h *history) Arrive(address string, encrypted bool, cut func(*keep.Fault)) dav.Visit {
	return arrived{davVisit{h.s.door.arriveFrom(address, keep.WebDAV, encrypted, cut)}, h}
}

// arrived lets anybody in.
type arrived struct {
	davVisit
	h *history
}

func (v arrived) SignIn(ctx context.Context, account string, _ keep.Secret) (*tree.Tree, time.Time, error) {
	holder, err := v.door.db.Holder(ctx, account)
	if err != nil {
		return nil, time.Time{}, err
	}
	opened, err := v.enter(ctx, holder.Account)
	return opened, time.Time{}, err
}

// now is the world as it is; hidden are names that only the service sees.
func (h *history) now() (w world, hidden []string) {
	w = world{map[string]string{}, map[string]string{}, map[string]string{}}
	for _, name := range []string{"files", "other"} {
		base := filepath.Join(h.dir, name)
		require.NoError(h.t, filepath.WalkDir(filepath.Join(base, h.root), func(file string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			rel, _ := filepath.Rel(base, file)
			spot := name + ":" + filepath.ToSlash(rel)
			if strings.HasPrefix(e.Name(), ".urbankeep-") {
				if !strings.HasPrefix(e.Name(), store.BinPrefix) {
					hidden = append(hidden, spot)
				}
				if e.IsDir() {
					return fs.SkipDir
				}
				return nil
			}
			switch {
			case e.IsDir():
				w.files[spot] = "d"
			case e.Type()&fs.ModeSymlink != 0:
				target, _ := os.Readlink(file)
				w.files[spot] = "l:" + target
			default:
				text, _ := os.ReadFile(file)
				w.files[spot] = "f:" + string(text)
			}
			return nil
		}))
	}
	rows := func(query string, into map[string]string) {
		var found []struct{ Spot, Is string }
		require.NoError(h.t, h.db.Select(&found, query, h.root, h.root+"/%"))
		for _, one := range found {
			if strings.Contains(one.Spot, store.BinPrefix) {
				continue // it goes along into the bin
			}
			if _, value, is := strings.Cut(one.Is, ">"); is { // of a property
				one.Is, _, _ = strings.Cut(value, "<")
			}
			into[one.Spot] = one.Is
		}
	}
	rows(`SELECT store || ':' || path AS spot, value AS "is" FROM dav_property WHERE path = ? OR path LIKE ?`, w.props)
	rows(`SELECT store || ':' || path AS spot, account.name AS "is" FROM dav_lock JOIN account ON account.id = account_id WHERE path = ? OR path LIKE ?`, w.locks)
	return w, hidden
}

func (h *history) fail(format string, args ...any) {
	h.t.Helper()
	h.t.Fatalf("%s\nthe history:\n%s\ngrants: %v %v", fmt.Sprintf(format, args...), strings.Join(h.story, "\n"), h.who[0].grants, h.who[1].grants)
}

// ask sends a request to WebDAV as whoever acts.
func (h *history) ask(method, at, body string, headers ...string) int {
	request := httptest.NewRequest(method, "/dav"+at, strings.NewReader(body))
	request.SetBasicAuth(h.acts.name, "secret")
	if len(h.acts.tokens) > 0 {
		request.Header.Set("If", "(<"+strings.Join(h.acts.tokens, ">) (<")+">) (Not <urn:none>)")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response := httptest.NewRecorder()
	h.server.ServeHTTP(response, request)
	if token := response.Header().Get("Lock-Token"); token != "" {
		h.acts.tokens = append(h.acts.tokens, strings.Trim(token, "<>"))
	}
	return response.Code
}

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
			if at := path.Join(m, strings.TrimPrefix(spot, a.mounts[m])); in(spot, a.mounts[m]) && a.mountOf(at) == m && at != "/" {
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
	a := h.acts
	at, to := h.likelyPath(a, w), h.likelyPath(a, w)
	self, led := a.real(w, at, false), a.real(w, at, true)
	target := a.real(w, to, false)
	h.content++
	text := fmt.Sprintf("content %d", h.content)
	fresh := func(at string) []string { // a name that is new changes its folder too
		if w.files[a.spot(at)] == "" {
			return []string{a.spot(at), path.Dir(a.spot(at))}
		}
		return []string{a.spot(at)}
	}
	switch h.r.IntN(12) {
	case 0, 1: // a move, over WebDAV or as by SFTP
		d := deed{says: "MOVE " + at + " to " + to, dav: true, hits: append(fresh(target), a.spot(self), path.Dir(a.spot(self))), deep: []string{a.spot(self), a.spot(target)},
			do: func() error { return codeError(h.ask("MOVE", at, "", "Destination", "/dav"+to)) }}
		if h.r.IntN(3) == 0 {
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
			return codeError(h.ask("COPY", at, "", "Destination", "/dav"+to, "Overwrite", map[bool]string{true: "T", false: "F"}[replace]))
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
				if w.files[a.spot(led)] == "" {
					return lacks(a, led, keep.Upload)
				}
				return lacks(a, led, keep.Overwrite)
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

// passed is a lock of somebody else that a deed has passed.
func (h *history) passed(before world, d deed) string {
	if !d.dav {
		return ""
	}
	for spot, owner := range before.locks {
		if owner == h.acts.name {
			continue
		}
		if slices.Contains(d.hits, spot) && spot != "" || slices.ContainsFunc(d.deep, func(top string) bool { return in(spot, top) }) {
			return spot
		}
	}
	return ""
}

// one does one random deed and holds what came of it against the model.
func (h *history) one() {
	h.acts = h.who[h.r.IntN(2)]
	before, hiddenBefore := h.now()
	d := h.some(before)
	*h.injury = injury{left: -1}
	if h.r.IntN(4) == 0 {
		*h.injury = injury{left: h.r.IntN(10), kills: h.r.IntN(2) == 0}
	}
	err := d.do()
	hurt, killed := h.injury.hurt, h.injury.dead
	*h.injury = injury{left: -1}
	h.story = append(h.story, fmt.Sprintf("%s: %s: %v (hurt %t, killed %t)", h.acts.name, d.says, err, hurt, killed))
	if os.Getenv("DEEDS") != "" {
		h.story = append(h.story, fmt.Sprint(before))
	}
	if hurt {
		h.mendAll()
	}
	after, hidden := h.now()
	should := before.clone()
	d.then(should)
	if err != nil && !hurt && (strings.Contains(err.Error(), "500") || keep.FaultOf(err).Reason == keep.Failure && !strings.HasPrefix(err.Error(), "answered")) {
		h.fail("the service failed")
	}
	switch {
	case err == nil && !hurt:
		if no := d.need(before); no != "" {
			h.fail("it was done, and lacks %s", no)
		}
		if at := h.passed(before, d); at != "" {
			h.fail("it has passed the lock on %s", at)
		}
		if !after.equal(should) {
			h.fail("it is not as it should be afterwards:\n%s", should.differs(after))
		}
		h.did[strings.Fields(d.says)[0]]++
	case after.equal(before), hurt && after.equal(should):
	case hurt && d.part && h.partly(before, after, should):
	case hurt && h.both(before, after, should):
	default:
		h.fail("it was not done, and is not as before:\n%s", before.differs(after))
	}
	if !hurt && len(hidden) > len(hiddenBefore) {
		h.fail("something is left that nobody sees: %v", hidden)
	}
}

// partly reports whether what is there is some of what was to go.
func (h *history) partly(before, after, should world) bool {
	for at, is := range before.files {
		if _, stays := should.files[at]; stays && after.files[at] != is {
			return false
		}
	}
	for at, is := range after.files {
		if before.files[at] != is {
			return false
		}
	}
	return true
}

// both reports whether everything is where it was, and some of it where it should be too: properties may not have come along yet.
func (h *history) both(before, after, should world) bool {
	for at, is := range before.files {
		if after.files[at] != is && should.files[at] != after.files[at] {
			return false
		}
		if _, still := should.files[at]; !still && after.files[at] != is && after.files[at] != "" {
			return false
		}
	}
	for at, is := range after.files {
		if before.files[at] != is && should.files[at] != is {
			return false
		}
	}
	// Nothing is lost: each content is somewhere.
	have := slices.Collect(maps.Values(after.files))
	for at, is := range before.files {
		if _, goes := should.files[at]; goes && !slices.Contains(have, is) && should.files[at] == is {
			return false
		}
	}
	return true
}

// mendAll is what the next start does.
func (h *history) mendAll() {
	deeds, err := h.s.DB.Deeds(h.t.Context())
	require.NoError(h.t, err)
	if left := h.s.mend(h.t.Context(), deeds); len(left) > 0 {
		h.fail("%v can't be put right", left)
	}
	h.s.door.begun = time.Now().Add(time.Second)
	h.s.door.dropLeftUploads(h.t.Context())
	_, hidden := h.now()
	for _, spot := range hidden {
		if name := path.Base(spot); strings.HasPrefix(name, store.AsidePrefix) || strings.HasPrefix(name, store.StagePrefix) || strings.HasPrefix(name, store.PartPrefix) {
			h.fail("%s is left after a start", spot)
		}
	}
}

// TestWhateverIsDoneEveryByteIsWhereTheModelSays does random deeds of two accounts whose trees overlap, over WebDAV and as by SFTP,
// with links, mounts of two stores and rights, stores that fail and the end of the process at a random step; and holds the disk,
// the properties and the locks against a slow model after each.
func TestWhateverIsDoneEveryByteIsWhereTheModelSays(t *testing.T) {
	base := "/dev/shm"
	if _, err := os.Stat(base); err != nil {
		base = ""
	}
	dir, err := os.MkdirTemp(base, "uk")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	log := slog.New(slog.DiscardHandler)
	s, err := Open(t.Context(), Options{Dir: filepath.Join(dir, "data"), Log: log})
	require.NoError(t, err)
	t.Cleanup(func() { s.Stop(context.Background()) })
	for _, name := range []string{"files", "other"} {
		folder := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(folder, 0o750))
		one := keep.Store{Name: name, Kind: keep.Disk, Folder: folder, Durability: keep.Process}
		one.Mark, err = s.Stores.Mark(one)
		require.NoError(t, err)
		require.NoError(t, s.DB.SaveStore(t.Context(), one))
	}
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, "data", "urbankeep.db"))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	seed := *deedSeed
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	t.Log("seed", seed)
	did := map[string]int{}
	began := time.Now()
	for n := range *deedHistories {
		h := &history{t: t, s: s, db: db, dir: dir, root: fmt.Sprintf("h%d", n), r: rand.New(rand.NewPCG(seed, uint64(n))), injury: &injury{left: -1}, did: did}
		h.story = append(h.story, fmt.Sprintf("-deed-seed %d, history %d", seed, n))
		h.begin()
		for range 12 {
			h.one()
		}
		h.end()
	}
	t.Log(*deedHistories, "histories in", time.Since(began), did)
	for _, what := range []string{"MOVE", "COPY", "DELETE", "PUT", "MKCOL", "LOCK", "PROPPATCH", "rename", "remove", "link"} {
		require.Greater(t, did[what], *deedHistories/50, what)
	}
}

// begin plants a small world and lets both in.
func (h *history) begin() {
	ctx := h.t.Context()
	for _, folder := range []string{"files/" + h.root + "/one", "files/" + h.root + "/shared", "other/" + h.root} {
		require.NoError(h.t, os.MkdirAll(filepath.Join(h.dir, folder), 0o750))
	}
	for range 12 {
		at := filepath.Join(h.dir, []string{"files/" + h.root + "/one", "files/" + h.root + "/one", "files/" + h.root + "/shared", "other/" + h.root}[h.r.IntN(4)], h.somePath())
		h.content++
		switch h.r.IntN(5) {
		case 0:
			os.MkdirAll(at, 0o750)
		case 1:
			os.MkdirAll(filepath.Dir(at), 0o750)
			os.Symlink([]string{"a", "../b", "../a/b", ".", "../c"}[h.r.IntN(5)], at)
		default:
			os.MkdirAll(filepath.Dir(at), 0o750)
			os.WriteFile(at, fmt.Appendf(nil, "content %d", h.content), 0o640)
		}
	}
	door := h.s.door
	door.open = func(s keep.Store, folder string) (store.Folder, int, error) {
		f, made, err := h.s.Stores.Open(s, folder)
		if err != nil {
			return nil, 0, err
		}
		return frail{f, h.injury, s.Name}, made, nil
	}
	door.hangs = frailHangs{hangs{h.s.DB, door}, h.injury}
	h.server = &dav.Server{Keeper: h, Told: func(*http.Request) bool { return true }, Log: slog.New(slog.DiscardHandler)}
	h.server.Prepare()
	week := keep.Seconds(7 * 24 * 3600)
	for n, mounts := range []map[string]string{{"/": "files:" + h.root + "/one", "/s": "files:" + h.root + "/shared", "/o": "other:" + h.root}, {"/": "files:" + h.root, "/o": "other:" + h.root}} {
		a := &someone{name: fmt.Sprintf("%s-%d", h.root, n), mounts: mounts, grants: []keep.Grant{{Path: "/", Rights: keep.Full}}, bin: n == 1 && h.r.IntN(2) == 0}
		for range h.r.IntN(3) {
			g := keep.Grant{Path: h.somePath(), Rights: keep.Rights(h.r.IntN(int(keep.Full) + 1))}
			if h.r.IntN(3) == 0 {
				g.Rights = keep.List | keep.Download
			}
			a.grants = append(a.grants, g)
		}
		account := &keep.Account{Name: a.name, State: keep.StateActive, Grants: a.grants}
		for at, spot := range mounts {
			name, folder, _ := strings.Cut(spot, ":")
			account.Mounts = append(account.Mounts, keep.Mount{At: at, Store: name, Folder: folder})
		}
		if a.bin {
			account.Settings.BinTime = &week
		}
		require.NoError(h.t, h.s.DB.AddAccount(ctx, account))
		holder, err := h.s.DB.Holder(ctx, a.name)
		require.NoError(h.t, err)
		visit := h.s.door.arriveFrom("127.0.0.1", keep.SFTP, true, func(*keep.Fault) {})
		opened, err := visit.enter(ctx, holder.Account)
		require.NoError(h.t, err)
		a.visit, a.stay = davVisit{visit}, &exchange.Stay{Tree: opened}
		h.who = append(h.who, a)
	}
}

// end looks once more, and lets both out.
func (h *history) end() {
	h.server.Close()
	for _, a := range h.who {
		a.stay.Tree.Close()
		a.visit.SignOut(nil)
	}
	h.s.door.fresh.Close()
	var binned []keep.Binned
	for _, a := range h.who {
		holder, err := h.s.DB.Holder(h.t.Context(), a.name)
		require.NoError(h.t, err)
		some, err := h.s.DB.Bin(h.t.Context(), holder.Account.ID)
		require.NoError(h.t, err)
		binned = append(binned, some...)
	}
	for _, b := range binned {
		if _, err := os.Lstat(filepath.Join(h.dir, b.Store, b.In, store.BinPrefix+b.ID)); err != nil {
			h.fail("what is in the bin is not there: %+v: %v", b, err)
		}
	}
}
