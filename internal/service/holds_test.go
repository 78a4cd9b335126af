package service

import (
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// What was decided of a held upload is done once, wherever the process ends in between, and a late row brings nothing back.
func TestADecisionThatWasCutOffIsDoneAtTheNextStart(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), Options{Dir: filepath.Join(dir, "data"), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { s.Stop(t.Context()) })
	files := keep.Store{Name: "files", Kind: keep.Disk, Folder: filepath.Join(dir, "files"), Durability: keep.Process}
	require.NoError(t, os.MkdirAll(files.Folder, 0o750))
	files.Mark, err = s.Stores.Mark(files)
	require.NoError(t, err)
	require.NoError(t, s.DB.SaveStore(t.Context(), files))
	hidden := func(id string) string { return filepath.Join(files.Folder, store.HeldPrefix+id) }
	for name, done := range map[string]bool{"not-yet": false, "done": true} {
		id := "id-" + name
		require.NoError(t, s.holds.Begin(keep.Held{ID: id, Account: "ann", Store: "files", Folder: ".", Name: name, Path: "/" + name, Check: keep.Check{Receiver: "scanner"}}))
		wrote, err := s.holds.Write(id, true)
		require.NoError(t, err)
		require.NoError(t, wrote(keep.HeldWaiting, 3, ""))
		require.NoError(t, os.WriteFile(hidden(id), []byte("new"), 0o640))
		one := s.holds.byID[id]
		one.Decided = keep.Decision{Answer: keep.CheckYes, How: keep.Refused}
		require.NoError(t, s.holds.save(one)) // and the process ends, before or after the file has its name
		if done {
			require.NoError(t, os.Rename(hidden(id), filepath.Join(files.Folder, name)))
		}
		s.holds, err = openHolds(t.Context(), s.DB)
		require.NoError(t, err)
		assert.Contains(t, s.holds.due(one.Came), id, "at once")
		require.NoError(t, s.checkOne(t.Context(), id))
		text, err := os.ReadFile(filepath.Join(files.Folder, name))
		require.NoError(t, err)
		assert.Equal(t, "new", string(text))
		require.NoError(t, s.holds.save(one)) // of a writer who comes late
		rows, err := s.DB.Held(t.Context())
		require.NoError(t, err)
		assert.Empty(t, rows)
	}
	s.Trail.Settle(t.Context())
	found, _, err := s.DB.SearchAudit(t.Context(), records.AuditQuery{Actions: []keep.Action{keep.Checking}, Limit: 10})
	require.NoError(t, err)
	require.Len(t, found, 2)
	for _, r := range found {
		assert.Equal(t, keep.Done, r.Outcome, r.Detail)
	}
}
