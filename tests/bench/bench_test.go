package bench_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// Every row of the benchmark is run once with next to nothing: what make bench prints
// after half an hour must not fail in its last minute.
func TestEveryRowOfTheBenchmarkRunsToItsEnd(t *testing.T) {
	out := run(t, "-tiny")
	named := regexp.MustCompile(`(?m)^(sftp|scp|ftp|ftps|ssh|power|memory|audit|live|service's|overview's|sealed|object|web|WebDAV|notices|directory|first page,?|found by|start,) .* \S+  `)
	rows := named.FindAllString(out, -1)
	t.Log(out)
	assert.GreaterOrEqual(t, len(rows), 70, "rows of the table")
	assert.Equal(t, len(rows), strings.Count(strings.TrimSpace(out), "\n"), "each line but the head is a row: %s", out)
}

// The long run does each of its pieces of work, and tells what the service holds.
func TestTheLongRunTellsWhatTheServiceHolds(t *testing.T) {
	out := run(t, "long", "10s")
	t.Log(out)
	assert.Regexp(t, `(?m)^ +\d+s +\d+ MiB +\d+ +\d+ +\d+\.\d /s`, out)
}

func run(t *testing.T, args ...string) string {
	t.Parallel()
	dir := t.TempDir()
	bench := filepath.Join(dir, "bench")
	build := exec.Command("go", "build", "-o", bench, "urbankeep/scripts/bench")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "bin"), 0o755))
	require.NoError(t, os.Symlink(testkit.Binary(t), filepath.Join(dir, "bin", "urbankeep")))
	run := exec.CommandContext(t.Context(), bench, args...)
	run.Dir = dir
	out, err = run.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}
