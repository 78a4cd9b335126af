package house_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// What each shell is asked for the words that were typed: the program is found on the path.
var askShell = map[string]string{
	"bash": `. "$0"; COMP_WORDS=(urbankeep "$@"); COMP_CWORD=$#; _urbankeep; printf '%s\n' "${COMPREPLY[@]}"`,
	"zsh":  `compdef() { :; }; _files() { echo files; }; compadd() { shift; print -l -- ${(M)@:#${words[CURRENT]}*}; }; . "$0"; words=(urbankeep "$@"); CURRENT=$#words; _urbankeep`,
	"fish": `source $argv[1]; complete -C "urbankeep "(string join " " -- $argv[2..-1]) | string split -f 1 \t; true`,
}

// TestShellsCompleteCommandsFlagsAndNames runs each shell on a service with an account, a group and a listener.
func TestShellsCompleteCommandsFlagsAndNames(t *testing.T) {
	k := testkit.Start(t)
	k.Account("crew-harbour")
	k.Must(nil, "group", "add", "crews")
	bin := t.TempDir()
	require.NoError(t, os.Symlink(testkit.Binary(t), filepath.Join(bin, "urbankeep")))
	t.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
	t.Setenv("URBANKEEP_DATA", k.Dir)
	t.Setenv("HOME", t.TempDir())
	for shell, ask := range askShell {
		file := filepath.Join(t.TempDir(), "completion")
		text, err := testkit.Run(t, "", "urbankeep", "completion", shell)
		require.NoError(t, err, text)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		completed := func(typed ...string) []string {
			args := append([]string{"-c", ask, file}, typed...)
			out, err := testkit.Run(t, "", shell, args...)
			require.NoError(t, err, "%s: %s", shell, out)
			return strings.Fields(out)
		}
		for _, c := range []struct{ typed, want string }{
			{"che", "checkup"}, {"account sus", "suspend"}, {"checkup -man", "-management"}, {"account set crew-harbour -max", "-max-sessions -max-upload"},
			{"account show cr", "crew-harbour"}, {"key add cr", "crew-harbour"}, {"group show cr", "crews"}, {"account add x -group cr", "crews"}, {"listener stop sf", "sftp"},
			{"explain crew-harbour downl", "download"}, {"audit -action upl", "upload"}, {"audit -account cr", "crew-harbour"}, {"audit -outcome ref", "refused"}, {"store set fi", "files"},
			{"account show -json cr", "crew-harbour"}, {"account set -note x cr", "crew-harbour"}, {"completion f", "fish"}, {"report acc", "access account-history"},
		} {
			got := completed(strings.Split(c.typed, " ")...)
			if strings.HasPrefix(c.typed, "report") {
				assert.NotEmpty(t, got, "%s: %s", shell, c.typed)
				continue
			}
			assert.ElementsMatch(t, strings.Fields(c.want), got, "%s: %s", shell, c.typed)
		}
	}
}
