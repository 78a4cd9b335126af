package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"urbankeep/internal/keep"
)

// firstPerson is the lowest number of a user that is a person (login.defs(5), UID_MIN), lastPerson the highest.
const firstPerson, lastPerson = 1000, 60_000

// systemRoster is a roster of the users of a group of the machine, with what is left out and why. Their hashes are those of
// shadow(5), where that can be read.
func systemRoster(folder, group, into string) (roster string, left []string, err error) {
	read := func(name string, fields int) (lines [][]string, err error) {
		text, err := os.ReadFile(filepath.Join(folder, name))
		for line := range strings.Lines(string(text)) {
			if parts := strings.Split(strings.TrimRight(line, "\n"), ":"); len(parts) >= fields {
				lines = append(lines, parts)
			}
		}
		return lines, err
	}
	groups, err := read("group", 4)
	if err != nil {
		return "", nil, err
	}
	at := slices.IndexFunc(groups, func(g []string) bool { return g[0] == group })
	if at < 0 {
		return "", nil, fmt.Errorf("the machine has no group %s", group)
	}
	number, members := groups[at][2], strings.Split(groups[at][3], ",")
	people, err := read("passwd", 7)
	if err != nil {
		return "", nil, err
	}
	hashes := map[string]string{}
	shadow, err := read("shadow", 2)
	if errors.Is(err, fs.ErrPermission) {
		left = append(left, "all passwords: only root can read "+filepath.Join(folder, "shadow"))
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", nil, err
	}
	for _, s := range shadow {
		hashes[s[0]] = s[1]
	}
	var text strings.Builder
	out := csv.NewWriter(&text)
	out.Write([]string{"account", "note", "groups", "password-hash"})
	found := 0
	for _, p := range people {
		name, uid := p[0], p[2]
		if p[3] != number && !slices.Contains(members, name) {
			continue
		}
		if n, err := strconv.Atoi(uid); err != nil || n < firstPerson || n > lastPerson {
			left = append(left, name+": it is no person's, its number is "+uid)
			continue
		}
		if err := keep.CheckName("account", name); err != nil {
			left = append(left, name+": "+err.Error())
			continue
		}
		hash, known := hashes[name]
		switch {
		case hash == "" || strings.HasPrefix(hash, "!") || strings.HasPrefix(hash, "*"):
			if known {
				left = append(left, name+"'s password: it has none, or is locked")
			}
			hash = ""
		case !takenOver(hash):
			left = append(left, name+"'s password: its form is not taken over")
			hash = ""
		}
		note, _, _ := strings.Cut(p[4], ",")
		out.Write([]string{name, note, into, hash})
		found++
	}
	out.Flush()
	if found == 0 {
		return "", left, fmt.Errorf("no person is in the group %s", group)
	}
	return text.String(), left, out.Error()
}

// takenOver reports whether the form of a hash is one that the service takes.
func takenOver(hash string) bool {
	return slices.ContainsFunc([]string{"$5$", "$6$", "$y$", "$2a$", "$2b$", "$2y$"}, func(form string) bool { return strings.HasPrefix(hash, form) })
}
