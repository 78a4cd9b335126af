package firststeps_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/face/command"
	"urbankeep/internal/program"
	"urbankeep/tests/testkit"
)

// aLine is a line that somebody is to type: indented by four, or in a fenced block.
var aLine = regexp.MustCompile(`^(?:    |\$ )?(?:sudo )?(?:bin/)?urbankeep ([a-z][a-z-]*(?: .*)?)$`)

// Every command line that the README and the docs print is one that the program takes: its command, its flags and its names.
// What it does is tried elsewhere; this finds what a change has left behind.
func TestEachCommandOfTheDocsIsOneThatThereIs(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	seen := 0
	for _, file := range append(files, "../../README.md") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		fenced := false
		for n, line := range strings.Split(string(text), "\n") {
			if strings.HasPrefix(line, "```") {
				fenced = !fenced
			}
			found := aLine.FindStringSubmatch(line)
			if found == nil || !fenced && !strings.HasPrefix(line, "    ") {
				continue
			}
			seen++
			assert.NoError(t, command.Check(program.Commands(), words(found[1])), fmt.Sprintf("%s:%d: %s", filepath.Base(file), n+1, line))
		}
	}
	assert.Greater(t, seen, 200, "the docs have that many")
}

// The commands of the README, from the first to the last, on a service that begins with nothing. What is left out needs
// something that a test has not: other machines, numbers that are made on the way, a terminal.
func TestTheReadmeRunsFromTheFirstLineToTheLast(t *testing.T) {
	text, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	left := regexp.MustCompile(`^(serve|setup|restore|session watch|certificate|listener add|source check|transfer end ID|undo 41|backup|checkup)\b`)
	k := testkit.Start(t)
	t.Chdir(t.TempDir())
	for _, key := range []string{"ann", "crew"} {
		out, err := testkit.Run(t, "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
		require.NoError(t, err, out)
	}
	ran := 0
	for line := range strings.Lines(string(text)) {
		found := aLine.FindStringSubmatch(strings.TrimSuffix(line, "\n"))
		if found == nil || !strings.HasPrefix(line, "    ") || left.MatchString(found[1]) {
			continue
		}
		ran++
		out, errs, status := k.CLIWith(testkit.Password+"\n", words(found[1])...)
		assert.Zero(t, status, "%s: %s", found[1], errs)
		if _, file, is := strings.Cut(found[1], " > "); is {
			require.NoError(t, os.WriteFile(strings.TrimSpace(file), []byte(out), 0o600))
		}
	}
	assert.Greater(t, ran, 40)
}

// words are those of a line of a shell, up to where it goes on with something else.
func words(line string) (all []string) {
	word, quote, open := "", rune(0), false
	end := func() {
		if open {
			all = append(all, word)
		}
		word, open = "", false
	}
	for i, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word += string(r)
		case r == '\'' || r == '"':
			quote, open = r, true
		case r == ' ':
			end()
		case !open && (r == '#' || r == '|' || r == '>' || r == '<' || r == '&' || strings.HasPrefix(line[i:], "2>")):
			return all
		default:
			word, open = word+string(r), true
		}
	}
	end()
	return all
}
