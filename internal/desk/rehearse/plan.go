package rehearse

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// Scratch is a folder that stands for all stores during a rehearsal: each store is
// a folder in it.
type Scratch string

// Store is the folder of a store.
func (s Scratch) Store(name string) string { return filepath.Join(string(s), name) }

// step is one thing to try.
type step struct {
	does   string // as people say it
	rights []need
	at, to string // paths of the tree; to for a rename
	try    func(c client, at, to string) error
	seen   func(file, target string) bool // whether its effect is on the disk
	file   string                         // where at is on the disk
	target string
	escape bool // it tries to leave the tree: it must be refused whatever the rights
}

type need struct {
	right keep.Rights
	at    string
}

// Content of what is planted and of what is sent.
const (
	planted = "planted before the rehearsal\n"
	sent    = "sent by the rehearsal\n"
)

// plan plants files in the scratch folder and says what to try: in each folder
// that a mount or a grant names, and out of the tree. The names hold a mark that
// differs from one protocol to the next.
func plan(e *keep.Effective, scratch Scratch, mark string) ([]step, error) {
	policy := keep.NewPolicy(e)
	places := []string{}
	for _, m := range e.Mounts {
		places = append(places, m.At)
	}
	for _, g := range e.Grants {
		places = append(places, g.Path)
	}
	slices.Sort(places)
	var steps []step
	for _, place := range slices.Compact(places) {
		more, err := planIn(policy, e, scratch, place, mark)
		if err != nil {
			return nil, err
		}
		steps = append(steps, more...)
	}
	out, err := planEscapes(policy, e, scratch, mark)
	return append(steps, out...), err
}

// onDisk is where a path of the tree lies in the scratch folder.
func onDisk(policy *keep.Policy, e *keep.Effective, scratch Scratch, at string) string {
	m := policy.MountOf(at)
	rel := strings.TrimPrefix(at, "/")
	if m.At != "/" {
		rel = strings.TrimPrefix(at[len(m.At):], "/")
	}
	return filepath.Join(scratch.Store(m.Store), filepath.FromSlash(m.FolderFor(e.Name)), filepath.FromSlash(rel))
}

func planIn(policy *keep.Policy, e *keep.Effective, scratch Scratch, place, mark string) ([]step, error) {
	at := func(name string) string { return path.Join(place, "rehearsal-"+mark+"-"+name) }
	disk := func(p string) string { return onDisk(policy, e, scratch, p) }
	if err := os.MkdirAll(disk(place), 0o700); err != nil {
		return nil, err
	}
	for _, name := range []string{"there", "moving", "going"} {
		if err := os.WriteFile(disk(at(name)), []byte(planted), 0o600); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(disk(at("empty")), 0o700); err != nil {
		return nil, err
	}
	one := func(does string, right keep.Rights, name string, try func(client, string, string) error, seen func(string, string) bool) step {
		return step{does: does, rights: []need{{right, at(name)}}, at: at(name), try: try, seen: seen, file: disk(at(name))}
	}
	list := step{does: "list", rights: []need{{keep.List, place}}, at: place, try: func(c client, at, _ string) error { return c.list(at) }}
	rename := one("rename", keep.Rename, "moving", func(c client, at, to string) error { return c.rename(at, to) },
		func(file, target string) bool { return !exists(file) && exists(target) })
	rename.to, rename.target = at("moved"), disk(at("moved"))
	rename.rights = append(rename.rights, need{keep.Rename, rename.to})
	steps := []step{list,
		one("download", keep.Download, "there", func(c client, at, _ string) error { return c.download(at, planted) }, nil),
		one("upload", keep.Upload, "new", upload, holdsSent),
		one("overwrite", keep.Overwrite, "there", upload, holdsSent),
		rename,
		one("delete", keep.Delete, "going", func(c client, at, _ string) error { return c.remove(at) }, gone),
		one("mkdir", keep.Mkdir, "folder", func(c client, at, _ string) error { return c.mkdir(at) }, func(file, _ string) bool { return exists(file) }),
		one("rmdir", keep.Rmdir, "empty", func(c client, at, _ string) error { return c.rmdir(at) }, gone),
	}
	for i, name := range filtered(e, place) {
		steps = append(steps, one("upload", keep.Upload, fmt.Sprint(i)+"-"+name, upload, holdsSent))
	}
	return steps, nil
}

func upload(c client, at, _ string) error { return c.upload(at, sent) }

func holdsSent(file, _ string) bool {
	text, err := os.ReadFile(file)
	return err == nil && string(text) == sent
}

func gone(file, _ string) bool { return !exists(file) }

func exists(file string) bool {
	_, err := os.Lstat(file)
	return err == nil
}

// filtered makes the end of a name for each pattern of the grants on a folder.
func filtered(e *keep.Effective, place string) []string {
	var names []string
	for _, g := range e.Grants {
		if g.Path == place {
			for _, pattern := range slices.Concat(g.Only, g.Never) {
				names = append(names, strings.NewReplacer("*", "x", "?", "x").Replace(pattern))
			}
		}
	}
	return names
}

// planEscapes plants a file outside of the tree, and a link to it inside.
func planEscapes(policy *keep.Policy, e *keep.Effective, scratch Scratch, mark string) ([]step, error) {
	outside := filepath.Join(string(scratch), "outside-"+mark)
	if err := os.WriteFile(outside, []byte(planted), 0o600); err != nil {
		return nil, err
	}
	link := "/rehearsal-" + mark + "-link"
	up := strings.Repeat("../", 12) + "outside-" + mark
	if err := os.Symlink(outside, onDisk(policy, e, scratch, link)); err != nil {
		return nil, err
	}
	download := func(c client, at, _ string) error { return c.download(at, planted) }
	return []step{
		{does: "leave by ..", at: up, try: download, escape: true},
		{does: "leave by a link", at: link, try: download, escape: true},
	}, nil
}

// expect says whether a step should be allowed at a time, and why.
func (s step) expect(policy *keep.Policy, now time.Time) (bool, string) {
	if s.escape {
		return false, "there is nothing outside of the tree"
	}
	why := ""
	for _, n := range s.rights {
		v := policy.Decide(n.right, n.at, now)
		if !v.Allowed {
			return false, v.Explain()
		}
		why = v.Explain()
	}
	return true, why
}
