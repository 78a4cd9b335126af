package internal_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wing is a part of the house. Its rooms stand on floors, top floor first; those of
// one floor don't know one another. A wing of a single package has the room ".".
type wing struct {
	name  string
	rooms [][]string
	knows []string // the wings whose packages it may import
}

// house is the floor plan, top to bottom: a wing knows wings that lie below it only.
var house = []wing{
	{"cmd/urbankeep", nil, []string{"program", "face", "files"}},
	{"program", nil, []string{"demo", "service", "face"}},
	{"demo", nil, []string{"service", "face", "desk", "people", "files", "keys", "records", "api", "keep"}},
	{"service", nil, []string{"face", "protocol", "desk", "people", "watch", "files", "keys", "records", "api", "keep"}},
	{"face", [][]string{{"cli", "web", "portal", "pass", "sso"}, {"command"}}, []string{"protocol", "desk", "people", "watch", "files", "keys", "records", "api", "keep"}},
	{"protocol", [][]string{{"ftp", "sftp", "https", "dav"}, {"wire", "exchange", "scp"}}, []string{"files", "api", "keep"}},
	{"desk", [][]string{{"office"}, {"checkup", "handover", "rehearse", "backup", "mover"}}, []string{"people", "watch", "files", "keys", "records", "api", "keep"}},
	{"people", [][]string{{"signin"}, {"source/book"}, {"source/directory", "source/radius", "source/sso"}, {"passwords"}, {"source"}}, []string{"watch", "keys", "records", "keep"}},
	{"watch", [][]string{{"traffic", "series", "collector", "notice", "metrics"}, {"audit"}}, []string{"files", "records", "api", "keep"}},
	{"files", [][]string{{"tree", "picture"}, {"quota"}, {"store/kinds"}, {"store/sealed", "store/object", "store/blob", "store/remote"}, {"store/bucket", "store/sftpclient"}, {"store/disk", "store/whole"}, {"store/scratch", "store/storetest"}, {"store"}}, []string{"records", "keep"}},
	{"keys", [][]string{{"hostkey", "certificate"}, {"pubkey"}}, []string{"records", "keep"}},
	{"records", nil, []string{"keep"}},
	{"api", nil, []string{"keep"}},
	{"keep", nil, nil},
}

// walls are what a package must not import, though its wing might.
var walls = map[string][]string{
	"keep":            {"context", "database/sql", "net", "net/http", "os", "io"},
	"face/cli":        {"protocol", "desk", "people", "records", "watch", "files"},
	"face/portal":     {"desk", "people", "records", "watch", "keys"},
	"face/pass":       {"desk", "people", "records", "watch", "keys"},
	"face/sso":        {"desk", "people", "records", "watch", "keys"},
	"face/command":    {"protocol", "desk", "people", "records", "watch", "files", "keys", "api"},
	"protocol/ftp":    {"database/sql", "net/http"},
	"protocol/sftp":   {"database/sql", "net/http"},
	"protocol/https":  {"database/sql", "files"},
	"protocol/dav":    {"database/sql"},
	"files/tree":      {"records", "net/http"},
	"files/quota":     {"net/http", "database/sql"},
	"files/store":     {"records", "net"},
	"watch/traffic":   {"records", "net/http"},
	"watch/metrics":   {"records", "files", "database/sql"},
	"watch/collector": {"files", "net/http", "database/sql"},
	"watch/series":    {"files", "net/http", "database/sql"},
	"people/signin":   {"net/http"},
	"people/source":   {"records", "net/http", "database/sql"},
	"desk/office":     {"net/http", "database/sql"},
	"desk/checkup":    {"records", "people", "net/http", "database/sql"},
	"desk/rehearse":   {"records", "files"},
	"desk/handover":   {"context", "records", "net", "net/http", "os"},
}

// room is where a package lies: its wing's place in the house and its floor there.
func room(path string) (w, floor int, known bool) {
	for n, wing := range house {
		for floor, names := range append([][]string{{"."}}, wing.rooms...) {
			for _, name := range names {
				if filepath.Join(wing.name, name) == path {
					return n, floor, wing.rooms == nil || floor > 0
				}
			}
		}
	}
	return 0, 0, false
}

func TestImportsPointDownOnly(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "urbankeep/cmd/...", "urbankeep/internal/...").Output()
	require.NoError(t, err)
	place := strings.NewReplacer("urbankeep/internal/", "", "urbankeep/cmd/", "cmd/")
	for line := range strings.Lines(string(out)) {
		names := strings.Fields(line)
		if len(names) == 0 || names[0] == "urbankeep/internal" {
			continue
		}
		path := place.Replace(names[0])
		from, floor, known := room(path)
		require.True(t, known, "%s has no room yet", path)
		for _, name := range names[1:] {
			below := place.Replace(name)
			for _, wall := range walls[path] {
				assert.False(t, below == wall || strings.HasPrefix(name, "urbankeep/internal/"+wall+"/"), "%s may not know %s", path, below)
			}
			if below == name {
				continue // not of this house
			}
			to, lower, known := room(below)
			switch {
			case !known:
				assert.Fail(t, "outside the house", "%s imports %s", path, name)
			case from == to:
				assert.Less(t, floor, lower, "%s may not import %s", path, below)
			default:
				assert.Less(t, from, to, "%s lies above %s", below, path)
				assert.Contains(t, house[from].knows, house[to].name, "%s may not import %s", path, below)
			}
		}
	}
}

// What stands in internal is what the plan has: wings with rooms hold nothing else.
func TestTheHouseIsAsDrawn(t *testing.T) {
	var drawn, found []string
	for _, w := range house[1:] {
		drawn = append(drawn, w.name)
	}
	entries, err := os.ReadDir(".")
	require.NoError(t, err)
	for _, entry := range entries {
		if entry.IsDir() {
			found = append(found, entry.Name())
		}
	}
	slices.Sort(drawn)
	assert.Equal(t, found, drawn)
	plan, err := os.ReadFile("../docs/developing.md")
	require.NoError(t, err)
	for _, w := range house[1:] {
		for _, name := range slices.Concat(append(w.rooms, []string{w.name})...) {
			assert.True(t, strings.Contains(string(plan), " "+name+" ") || strings.Contains(string(plan), " "+name+"/ "), "docs/developing.md does not draw %s", name)
		}
	}
}
