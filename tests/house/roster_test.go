package house_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// Accounts of every kind come back from the table as they were: nothing changes when
// it is read, and a house without them gets the same ones.
func TestEveryKindOfAccountComesBackFromTheTable(t *testing.T) {
	k := testkit.Start(t)
	for _, g := range []string{"crews", "partners", "instruments"} {
		k.Must(nil, "group", "add", g, "-home", "files:{group}/{account}")
	}
	r := rand.New(rand.NewPCG(5, 6))
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	for n := range 60 {
		args := []string{"account", "add", fmt.Sprintf("account-%02d", n), "-home", pick("files:{account}", "files:/", "files:shared/a b"), "-note", pick("", "a, \"b\"", "=1", "'quoted", "-x", "two words", "ø")}
		for flag, values := range map[string][]string{
			"-group": {"crews", "partners", "instruments"}, "-mail": {"crew@port-selwyn.example"}, "-sign-in-by": {"either", "key", "both"}, "-protocols": {"all", "sftp", "ftp,ftps"},
			"-encryption": {"required", "optional", "listener"}, "-allow": {"everybody", "192.0.2.0/24,2001:db8::7"}, "-deny": {"nobody", "198.51.100.7"}, "-valid-from": {"always", "2026-01-01"},
			"-valid-until": {"never", "2099-01-01T12:30:00Z"}, "-max-sessions": {"0", "7"}, "-idle-time": {"0", "90s", "10m"}, "-max-upload": {"0", "1234567", "1.5GiB"}, "-speed-up": {"0", "2MiB"},
			"-session-speed-down": {"1000"}, "-quota-bytes": {"0", "10G"}, "-quota-files": {"5"}, "-umask": {"007", "000"}, "-starters": {"none", "/in,/out"}, "-must-change": {"=true", "=false"},
			"-mount": {"/maps=files:maps,ro", "/in=files:in,umask=002,bytes=5M,files=9"}, "-grant": {"/maps=read-only", "/in=add-only;only=*.tif;never=a*;days=mon-fri;hours=08:00-18:00;zone=Europe/Oslo", "/season=list;from=2026-03-01;until=2026-10-01"},
		} {
			switch value := values[r.IntN(len(values))]; {
			case r.IntN(3) > 0:
			case strings.HasPrefix(value, "="):
				args = append(args, flag+value)
			default:
				args = append(args, flag, value)
			}
		}
		k.Must(nil, args...)
	}
	table := k.Must(nil, "account", "export")
	var lines []api.RosterLine
	read := func(args ...string) {
		out, errs, status := k.CLIWith(table, append([]string{"account", "import", "-", "-json"}, args...)...)
		require.Zero(t, status, errs+out)
		lines = nil
		require.NoError(t, json.Unmarshal([]byte(out), &lines))
	}
	read("-dry-run")
	require.Len(t, lines, 60)
	for _, l := range lines {
		assert.Equal(t, "nothing", l.Does, "%s: %v", l.Account, l.Changes)
	}
	for n := range 60 {
		if n%2 == 0 {
			k.Must(nil, "account", "delete", fmt.Sprintf("account-%02d", n))
		}
	}
	read()
	added := 0
	for _, l := range lines {
		if l.Does == "add" {
			added++
		}
	}
	assert.Equal(t, 30, added)
	assert.Equal(t, table, k.Must(nil, "account", "export"))
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "accounts-import")
	require.Len(t, trail, 1)
	assert.Equal(t, "30 added, 0 changed", trail[0].Detail)
}
