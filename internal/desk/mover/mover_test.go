package mover_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/desk/mover"
	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/keep"
)

// coarse is a folder that knows of its files no more than their sizes and times, as another machine does.
type coarse struct{ store.Folder }

type facts struct{ fs.FileInfo }

func (facts) Sys() any { return nil }

func (f coarse) Lookup(name string) (fs.FileInfo, error) {
	info, err := f.Folder.Lookup(name)
	return facts{info}, err
}

// A file that is overwritten by one of its size and time is brought again, by the same move and by one that goes on after a break.
func TestAFileOfTheSameSizeAndTimeIsBroughtAgain(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	when := time.Now().Add(-time.Hour)
	write := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(from, "f"), []byte(text), 0o640))
		require.NoError(t, os.Chtimes(filepath.Join(from, "f"), when, when))
	}
	folder := func(at string) store.Folder {
		f, err := kinds.New("", nil).Look(keep.Store{Folder: at}, ".")
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return f
	}
	touched := map[string]bool{}
	begin := func() *mover.Mover {
		return &mover.Mover{From: coarse{folder(from)}, To: folder(to), Tally: &mover.Tally{}, Touched: func() func(string) bool {
			now := touched
			touched = map[string]bool{}
			return func(at string) bool { return now[at] }
		}}
	}
	m := begin()
	for n, text := range []string{"one", "two", "six"} {
		if n == 2 {
			m = begin() // which knows of nothing that was brought before
		}
		write(text)
		touched["f"] = n == 1
		require.NoError(t, m.Pass(t.Context(), n == 2))
		there, err := os.ReadFile(filepath.Join(to, "f"))
		require.NoError(t, err)
		assert.Equal(t, text, string(there))
	}
	require.NoError(t, m.Pass(t.Context(), false))
	assert.Equal(t, int64(1), m.Tally.Copied.Load())
	assert.Equal(t, int64(1), m.Tally.Same.Load(), "what is the same is not copied again")
}
