package internal_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors is the floor plan, top to bottom: a package may import packages of
// lower floors only. Those of one floor don't know one another.
var floors = [][]string{
	{"cmd/urbankeep", "scripts/shots", "scripts/bench", "scripts/package"},
	{"internal/program"},
	{"internal/demo", "tests/testkit"},
	{"internal/service", "internal/face/cli"},
	{"internal/face/web", "internal/protocol/ftp", "internal/protocol/sftp", "tests/browser"},
	{"internal/desk/office"},
	{"internal/desk/checkup"},
	{"internal/people/signin", "internal/watch/traffic", "internal/keys/hostkey", "internal/keys/certificate", "internal/desk/rehearse", "internal/desk/handover", "internal/desk/backup", "internal/watch/series", "internal/watch/collector", "internal/watch/metrics"},
	{"internal/files/tree"},
	{"internal/files/quota"},
	{"internal/files/store", "internal/watch/audit", "internal/keys/pubkey"},
	{"internal/records", "internal/api"},
	{"internal/keep", "internal/protocol/wire", "internal/face/command"},
}

// mayNotKnow are walls inside the house: what a package must not import, though
// it lies below.
var mayNotKnow = map[string][]string{
	"internal/keep":            {"context", "database/sql", "net", "net/http", "os", "io"},
	"internal/face/cli":        {"internal/service", "internal/desk/office", "internal/records", "internal/files/tree", "internal/face/web"},
	"internal/protocol/ftp":    {"internal/records", "internal/people/signin", "internal/desk/office", "internal/watch/audit", "database/sql", "net/http"},
	"internal/protocol/sftp":   {"internal/records", "internal/people/signin", "internal/desk/office", "internal/watch/audit", "database/sql", "net/http"},
	"internal/files/tree":      {"internal/watch/audit", "internal/records", "net/http"},
	"internal/watch/traffic":   {"internal/records", "net/http"},
	"internal/people/signin":   {"net/http"},
	"internal/files/quota":     {"internal/files/tree", "net/http", "database/sql"},
	"internal/desk/rehearse":   {"internal/records", "internal/files/tree", "net/http"},
	"internal/desk/office":     {"net/http", "database/sql"},
	"internal/desk/checkup":    {"internal/records", "internal/people/signin", "net/http", "database/sql"},
	"internal/watch/metrics":   {"internal/records", "internal/files/tree", "database/sql"},
	"internal/watch/collector": {"internal/files/tree", "net/http", "database/sql"},
	"internal/desk/handover":   {"context", "internal/records", "net", "net/http", "os"},
	"internal/watch/series":    {"internal/files/tree", "net/http", "database/sql"},
	"internal/files/store":     {"internal/records"},
}

func TestImportsPointDownOnly(t *testing.T) {
	floorOf := map[string]int{}
	for n, floor := range floors {
		for _, name := range floor {
			floorOf["urbankeep/"+name] = n
		}
	}
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "urbankeep/...").Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(out)) {
		names := strings.Fields(line)
		if len(names) == 0 || names[0] == "urbankeep/internal" {
			continue
		}
		from, known := floorOf[names[0]]
		require.True(t, known, "%s has no floor yet", names[0])
		for _, name := range names[1:] {
			if to, ours := floorOf[name]; ours {
				assert.Less(t, from, to, "%s may not import %s", names[0], name)
			}
			for _, wall := range mayNotKnow[strings.TrimPrefix(names[0], "urbankeep/")] {
				assert.NotEqual(t, strings.Replace(wall, "internal/", "urbankeep/internal/", 1), name, "%s may not know %s", names[0], name)
			}
		}
	}
}
