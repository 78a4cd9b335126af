package plants_test

import (
	"go/parser"
	"go/token"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/plants"
)

// The code that bugs are planted into changes: each must still find its place, or the checker of histories would be tried with
// fewer than are promised.
func TestEachBugCanBePlanted(t *testing.T) {
	for _, p := range plants.All {
		_, text, err := plants.Planted("../..", p.Name)
		require.NoError(t, err)
		_, err = parser.ParseFile(token.NewFileSet(), p.File, text, 0)
		assert.NoError(t, err, p.Name)
	}
	assert.GreaterOrEqual(t, len(plants.All), 20)
}
