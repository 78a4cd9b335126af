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
	{"internal/demo", "internal/testkit"},
	{"internal/service", "internal/cli"},
	{"internal/web", "internal/ftp", "internal/sftp", "internal/browser"},
	{"internal/office"},
	{"internal/checkup"},
	{"internal/signin", "internal/traffic", "internal/hostkey", "internal/certificate", "internal/rehearse", "internal/handover", "internal/backup", "internal/series", "internal/collector", "internal/metrics"},
	{"internal/tree"},
	{"internal/quota"},
	{"internal/store", "internal/audit", "internal/pubkey"},
	{"internal/records", "internal/web/api"},
	{"internal/keep", "internal/wire", "internal/command"},
}

// mayNotKnow are walls inside the house: what a package must not import, though
// it lies below.
var mayNotKnow = map[string][]string{
	"internal/keep":      {"context", "database/sql", "net", "net/http", "os", "io"},
	"internal/cli":       {"internal/service", "internal/office", "internal/records", "internal/tree", "internal/web"},
	"internal/ftp":       {"internal/records", "internal/signin", "internal/office", "internal/audit", "database/sql", "net/http"},
	"internal/sftp":      {"internal/records", "internal/signin", "internal/office", "internal/audit", "database/sql", "net/http"},
	"internal/tree":      {"internal/audit", "internal/records", "net/http"},
	"internal/traffic":   {"internal/records", "net/http"},
	"internal/signin":    {"net/http"},
	"internal/quota":     {"internal/tree", "net/http", "database/sql"},
	"internal/rehearse":  {"internal/records", "internal/tree", "net/http"},
	"internal/office":    {"net/http", "database/sql"},
	"internal/checkup":   {"internal/records", "internal/signin", "net/http", "database/sql"},
	"internal/metrics":   {"internal/records", "internal/tree", "database/sql"},
	"internal/collector": {"internal/tree", "net/http", "database/sql"},
	"internal/handover":  {"context", "internal/records", "net", "net/http", "os"},
	"internal/series":    {"internal/tree", "net/http", "database/sql"},
	"internal/store":     {"internal/records"},
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
