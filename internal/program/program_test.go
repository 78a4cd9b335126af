package program

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/face/command"
)

// completed asks bash what it would offer behind the words that were typed.
func completed(t *testing.T, file string, typed ...string) []string {
	out, err := exec.Command("bash", append([]string{"-c", `. "$0"; COMP_WORDS=(urbankeep "$@"); COMP_CWORD=$#; _urbankeep; printf '%s\n' "${COMPREPLY[@]}"`, file}, typed...)...).CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.Fields(string(out))
}

func TestBashCompletesCommandsAndFlags(t *testing.T) {
	var text bytes.Buffer
	require.NoError(t, command.WriteCompletion(&text, "bash", Commands()))
	file := filepath.Join(t.TempDir(), "completion")
	require.NoError(t, os.WriteFile(file, text.Bytes(), 0o600))
	assert.Equal(t, []string{"checkup"}, completed(t, file, "che"))
	assert.Equal(t, []string{"account", "access"}, []string{completed(t, file, "ac")[1], completed(t, file, "ac")[0]})
	assert.Equal(t, []string{"suspend"}, completed(t, file, "account", "sus"))
	assert.Equal(t, []string{"-management"}, completed(t, file, "checkup", "-m"))
	assert.Equal(t, []string{"-max-sessions", "-max-upload"}, completed(t, file, "account", "set", "ann", "-max"))
	for _, shell := range []string{"zsh", "fish"} {
		text.Reset()
		require.NoError(t, command.WriteCompletion(&text, shell, Commands()))
		for _, want := range []string{"password-link", "token-file"} {
			assert.Contains(t, text.String(), want, shell)
		}
	}
	assert.Error(t, command.WriteCompletion(&text, "none", Commands()))
}

func TestEveryCommandHasAManualPageThatSaysWhatItsHelpSays(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, command.ManPages(dir, "1", Commands()))
	index, err := os.ReadFile(filepath.Join(dir, "urbankeep.1"))
	require.NoError(t, err)
	unrolled := strings.NewReplacer(`\-`, "-", `\e`, `\`, `\fI`, "", `\fR`, "", `\&`, "")
	for _, c := range Commands() {
		page, err := os.ReadFile(filepath.Join(dir, "urbankeep-"+strings.ReplaceAll(c.Name, " ", "-")+".1"))
		require.NoError(t, err, c.Name)
		assert.Contains(t, unrolled.Replace(string(index)), c.Short, c.Name)
		var help bytes.Buffer
		require.Zero(t, command.Main(t.Context(), command.Env{Out: &help, Err: &help}, Commands(), append(strings.Fields(c.Name), "-h")))
		for line := range strings.Lines(help.String()) {
			if flag, ok := strings.CutPrefix(line, "  -"); ok {
				flag, _, _ = strings.Cut(strings.TrimSpace(flag), " ")
				flag, _, _ = strings.Cut(flag, "\t")
				assert.Contains(t, unrolled.Replace(string(page)), ".B -"+flag, c.Name)
			}
		}
	}
}
