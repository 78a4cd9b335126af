package clients_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// npm's tus-js-client, with each option that changes what it sends (tus 1.0.0): what is not offered is refused for what it is.
func TestEachOptionOfTheTusClientDoesOrIsRefused(t *testing.T) {
	t.Parallel()
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(filepath.Join(k.Home("ann"), "in"), 0o750))
	var pass api.PassMade
	k.Must(&pass, "pass", "add", "ann", "/in", "-drop")
	dir := t.TempDir()
	out, err := testkit.Run(t, "", "node", "scripts/tus-round.cjs", pass.Link, dir)
	require.NoError(t, err, out)
	t.Log(out)
	for _, says := range []string{
		"plain: done by POST PATCH\n", "chunks: done by POST PATCH PATCH PATCH\n", "at-once: done by POST\n", "at-once-in-chunks: done by POST PATCH PATCH\n", "override: done by POST POST=PATCH\n",
		"numbered: done by", "size-said: done by", "stream: done by POST PATCH PATCH PATCH\n", "empty: done by", "parallel: refused: 400 ", "(Upload-Concat)", "deferred: refused: 400 ", "(Upload-Defer-Length)",
		"goes-on: done by HEAD PATCH", "remembered of it: 1\n", "remembered: done by HEAD PATCH", "remembered afterwards: 0\n", "ended: gone\n", "none-left: refused: ",
	} {
		assert.Contains(t, out, says)
	}
	want, err := os.ReadFile(filepath.Join(dir, "content"))
	require.NoError(t, err)
	found, err := os.ReadDir(filepath.Join(k.Home("ann"), "in"))
	require.NoError(t, err)
	var names []string
	for _, e := range found {
		names = append(names, e.Name())
		if e.Name() != "empty" {
			assert.Equal(t, want, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "in", e.Name())), e.Name())
		}
	}
	assert.Equal(t, "at-once at-once-in-chunks chunks empty goes-on numbered override plain remembered size-said stream", strings.Join(names, " "))
}
