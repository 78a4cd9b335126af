package handover

import (
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// reach says what the account reaches, and what it may do there.
func reach(f *Facts) Section {
	s, a := Section{Title: "What you reach"}, f.Account
	var paths []string
	for _, m := range a.Mounts {
		paths = append(paths, m.At)
	}
	for _, g := range a.Grants {
		paths = append(paths, g.Path)
	}
	slices.Sort(paths)
	for _, at := range slices.Compact(paths) {
		m := mountOf(a, at)
		if m == nil {
			continue
		}
		may := mayAt(a, at, m.ReadOnly)
		if len(may) == 0 {
			continue
		}
		if m.At == at && m.Quota.Limited() {
			may = append(may, "holds at most "+room(m.Quota))
		}
		if m.At == at && len(m.Protocols) > 0 {
			may = append(may, "over "+m.Protocols.String()+" only")
		}
		s.row(at, "%s", strings.Join(may, "; "))
	}
	return s
}

// dropsInto is the first folder into which the account may upload now, as a URL's path with a slash at its end; "" when there is none.
func dropsInto(a *keep.Effective) string {
	policy, at := keep.NewPolicy(a), []string{}
	for _, m := range a.Mounts {
		at = append(at, m.At)
	}
	for _, g := range a.Grants {
		at = append(at, g.Path)
	}
	slices.Sort(at)
	for _, folder := range at {
		if policy.Decide(keep.Upload, path.Join(folder, "a"), time.Now()).Allowed {
			return strings.TrimSuffix((&url.URL{Path: folder}).EscapedPath(), "/") + "/"
		}
	}
	return ""
}

func room(q *keep.Quota) string {
	var said []string
	if q.Bytes > 0 {
		said = append(said, keep.SaySize(int64(q.Bytes)))
	}
	if q.Files > 0 {
		said = append(said, fmt.Sprintf("%d files", q.Files))
	}
	return strings.Join(said, " and ")
}

func mountOf(a *keep.Effective, at string) (found *keep.Mount) {
	for i := range a.Mounts {
		if m := &a.Mounts[i]; keep.Covers(m.At, at) && (found == nil || len(m.At) > len(found.At)) {
			found = m
		}
	}
	return found
}

// mayAt says the rights on a path: those of the grants on the deepest folder that covers
// it, no other.
func mayAt(a *keep.Effective, at string, readOnly bool) (said []string) {
	deepest := ""
	for _, g := range a.Grants {
		if keep.Covers(g.Path, at) && len(g.Path) > len(deepest) {
			deepest = g.Path
		}
	}
	var always keep.Rights
	for _, g := range a.Grants {
		if g.Path == deepest && g.Conditions() == "" {
			always |= g.Rights
		}
	}
	say := func(r keep.Rights, condition string) {
		if readOnly {
			r &= keep.List | keep.Download
		}
		if r == 0 {
			return
		}
		text := inWords(r)
		if condition != "" {
			text += " (" + condition + ")"
		}
		said = append(said, text)
	}
	say(always, "")
	for _, g := range a.Grants {
		if g.Path == deepest && g.Conditions() != "" {
			say(g.Rights, g.Conditions())
		}
	}
	return said
}

// inWords names a bundle with what is in it.
func inWords(r keep.Rights) string {
	if text := r.String(); !strings.Contains(text, ",") && text != strings.Join(r.Names(), ",") {
		return text + ": " + strings.Join(r.Names(), ", ")
	}
	return strings.Join(r.Names(), ", ")
}
