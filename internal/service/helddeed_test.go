package service

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// checked is the mount on which uploads are held until they are checked; both accounts have it.
const checked = "/h"

// heldKey is how the world names a held upload: whose it is, and the spot where it is to appear.
func heldKey(owner, spot string) string { return owner + " at " + spot }

func heldIs(content string, over bool) string { return fmt.Sprintf("%s, over %t", content, over) }

// nowHeld is what is held, as the records, the service and the disk say.
func (h *history) nowHeld() map[string]string {
	found, known := map[string]string{}, 0
	for _, one := range h.s.holds.all() {
		if one.Store != "files" || !in(one.Folder, h.root) {
			continue
		}
		known++
		content, err := os.ReadFile(filepath.Join(h.dir, one.Store, one.Folder, store.HeldPrefix+one.ID))
		is := heldIs(string(content), one.Over)
		if errors.Is(err, os.ErrNotExist) || one.State != keep.HeldWaiting {
			is = "is coming"
		}
		found[heldKey(one.Account, one.Store+":"+path.Join(one.Folder, one.Name))] = is
	}
	rows, err := h.s.DB.Held(h.t.Context())
	require.NoError(h.t, err)
	for _, row := range rows {
		if row.Store == "files" && in(row.Folder, h.root) {
			known--
			if now := h.s.holds.byID[row.ID]; now == nil || now.Folder != row.Folder || now.Name != row.Name || now.Over != row.Over || now.State != row.State {
				h.fail("the records say of a held upload %+v, the service %+v", row, now)
			}
		}
	}
	if known != 0 {
		h.fail("%d held uploads have no row", known)
	}
	return found
}

// heldSafe reports whether nothing has become of held uploads that the deed had nothing to do with.
func heldSafe(before, after, should world) bool {
	for key, is := range before.held {
		if now := after.held[key]; now != is && should.held[key] == is {
			return false
		}
	}
	return true
}

// someHeld is a random deed with held uploads: one that is sent, named otherwise, removed, let in or refused.
func (h *history) someHeld(w world) deed {
	a := h.acts
	some := func() string { return checked + "/" + []string{"a", "b", "c", "a/b", "s/c", "l"}[h.r.IntN(6)] }
	at, to := some(), some()
	h.content++
	text := fmt.Sprintf("content %d", h.content)
	led := a.real(w, at, true)
	over := func(at string) bool { return a.rights(at).Has(keep.Overwrite) }
	if mine := h.heldPaths(a, w); len(mine) > 0 && h.r.IntN(3) > 0 {
		at = mine[h.r.IntN(len(mine))]
		led = at
	}
	self, target := a.real(w, at, false), a.real(w, to, false)
	key := heldKey(a.name, a.spot(self))
	switch kind := h.r.IntN(6); {
	case kind < 2 || len(w.held) == 0:
		key := heldKey(a.name, a.spot(led))
		hits := []string{a.spot(led)}
		if w.held[key] == "" && w.files[a.spot(led)] == "" {
			hits = append(hits, path.Dir(a.spot(led)))
		}
		return deed{says: "hold " + at, dav: true, hits: hits,
			do: func() error { return codeError(h.ask("PUT", at, text)) },
			need: func(w world) string {
				switch is := w.files[a.spot(led)]; {
				case w.held[key] != "":
				case is == "d":
					return "a name that is no folder's"
				case is == "":
					return lacks(a, led, keep.Upload)
				}
				return lacks(a, led, keep.Overwrite)
			},
			then: func(w world) { w.held[key] = heldIs(text, over(led)) }}
	case kind == 2 && w.held[key] != "":
		into := heldKey(a.name, a.spot(target))
		return deed{says: "rename-held " + at + " to " + to,
			do: func() error { return a.stay.Tree.Rename(at, to, true) },
			need: func(w world) string {
				switch is := w.files[a.spot(target)]; {
				case w.held[into] != "":
					return "a free name"
				case is == "d":
					return "a name that is no folder's"
				case is != "":
					if no := lacks(a, target, keep.Overwrite); no != "" {
						return no
					}
				}
				return lacks(a, self, keep.Rename) + lacks(a, target, keep.Rename)
			},
			then: func(w world) {
				content, _, _ := strings.Cut(w.held[key], ", over")
				delete(w.held, key)
				w.held[into] = heldIs(content, over(target))
			}}
	case kind == 3 && w.held[key] != "":
		return deed{says: "drop-held " + at,
			do:   func() error { return a.stay.Tree.Remove(at) },
			need: func(world) string { return lacks(a, self, keep.Delete) },
			then: func(w world) { delete(w.held, key) }}
	}
	return h.decideHeld(w)
}

// heldPaths are the paths at which an account has held uploads.
func (h *history) heldPaths(a *someone, w world) (found []string) {
	for key := range w.held {
		if spot, mine := strings.CutPrefix(key, a.name+" at "); mine {
			found = append(found, checked+strings.TrimPrefix(spot, a.mounts[checked]))
		}
	}
	slices.Sort(found)
	return found
}

// decideHeld says yes or no to a held upload, as a receiver or an operator does.
func (h *history) decideHeld(w world) deed {
	all := h.s.holds.all()
	all = slices.DeleteFunc(all, func(one keep.Held) bool { return one.Store != "files" || !in(one.Folder, h.root) })
	one := all[h.r.IntN(len(all))]
	spot := one.Store + ":" + path.Join(one.Folder, one.Name)
	key := heldKey(one.Account, spot)
	answer := []keep.CheckAnswer{keep.CheckYes, keep.CheckYes, keep.CheckNo}[h.r.IntN(3)]
	return deed{says: fmt.Sprintf("say-%s of %s", answer, key),
		do:   func() error { return h.s.decide(one.ID, -1, answer, keep.Refused, "") },
		need: func(world) string { return "" },
		then: func(w world) {
			content, replaces, _ := strings.Cut(w.held[key], ", over ")
			delete(w.held, key)
			folder := path.Dir(spot)
			if answer == keep.CheckNo {
				if one.Refused == "" || content == "is coming" {
					return
				}
				folder = "files:" + one.Refused
				w.files[folder] = "d"
			}
			as := path.Join(folder, path.Base(spot))
			for n := 2; ; n++ {
				if is := w.files[as]; is == "" || answer == keep.CheckYes && replaces == "true" && strings.HasPrefix(is, "f:") {
					break
				}
				as = path.Join(folder, fmt.Sprintf("%s (%d)", path.Base(spot), n))
			}
			w.files[as] = "f:" + content
		}}
}

// endHeld removes what is still held.
func (h *history) endHeld() {
	for _, one := range h.s.holds.all() {
		if in(one.Folder, h.root) {
			h.s.holds.byID[one.ID].Refused = ""
			require.NoError(h.t, h.s.decide(one.ID, -1, keep.CheckNo, keep.Refused, ""))
		}
	}
}
