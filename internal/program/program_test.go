package program

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/face/command"
)

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

// The first page of the help shows what people do, on 80 columns.
func TestTheFirstPageOfTheHelpFits(t *testing.T) {
	var out bytes.Buffer
	assert.Zero(t, command.Main(t.Context(), command.Env{Out: &out, Err: &out}, Commands(), []string{"-h"}))
	known := 0
	for line := range strings.SplitSeq(out.String(), "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 80, line)
		if strings.HasPrefix(line, "  ") {
			known++
		}
	}
	assert.Equal(t, 45, known, "every command of the chapters is there")
}
