package keep

import (
	"os"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every word that is declared can be searched for.
func TestEveryWordIsInTheVocabulary(t *testing.T) {
	for file, of := range map[string]struct {
		kind  string
		known func(word string) bool
	}{
		"auditrecord.go": {"Action", func(w string) bool { return slices.Contains(Actions, Action(w)) }},
		"reason.go":      {"Reason", func(w string) bool { return slices.Contains(Reasons, Reason(w)) }},
		"listener.go":    {"Protocol", func(w string) bool { return slices.Contains(AllProtocols, Protocol(w)) }},
	} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		declared := regexp.MustCompile(`(?m)^\t\w+\s+`+of.kind+` = "([^"]+)"`).FindAllStringSubmatch(string(text), -1)
		require.NotEmpty(t, declared)
		for _, d := range declared {
			assert.True(t, of.known(d[1]), "%s is missing", d[1])
		}
	}
}

func TestAWordThatIsNoneIsRefusedWithThoseThatWereMeant(t *testing.T) {
	assert.NoError(t, CheckWord("outcome", "", Outcomes))
	assert.NoError(t, CheckWord("outcome", "refused", Outcomes))
	assert.ErrorContains(t, CheckWord("outcome", "refuse", Outcomes), `there is no outcome "refuse": use done, refused, failed, interrupted`)
	assert.ErrorContains(t, CheckWord("reason", "quota-ful", Reasons), "use disk-full, quota-full")
	assert.ErrorContains(t, CheckWord("action", "qqq", Actions), "audit -h lists them all")
}
