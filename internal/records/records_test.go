package records_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

func TestADataFolderIsMadeForItsOwnerOnly(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new")
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: "/x"}))
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, f := range files {
		info, err := f.Info()
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), f.Name())
	}
	require.NoError(t, db.Close())
}

func TestAFolderInUseIsRefused(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	_, err = records.Open(t.Context(), dir)
	assert.ErrorContains(t, err, "is in use by another urbankeep: stop that one, or choose another folder")
	require.NoError(t, db.Close())
	again, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, again.Close())
}

func TestAFolderOfANewerVersionIsRefusedAndLeftAlone(t *testing.T) {
	dir := t.TempDir()
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	file, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	_, err = file.Exec("PRAGMA user_version = 999")
	require.NoError(t, err)
	_, err = records.Open(t.Context(), dir)
	assert.ErrorContains(t, err, "was made by a newer urbankeep (its records have version 999")
	var version int
	require.NoError(t, file.QueryRow("PRAGMA user_version").Scan(&version))
	assert.Equal(t, 999, version)
	require.NoError(t, file.Close())
}

func TestAFolderThatCannotBeWrittenIsAClearError(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := records.Open(t.Context(), filepath.Join(file, "data"))
	assert.ErrorContains(t, err, "choose another with -data, or make it writable")

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "urbankeep.db"), []byte("this is no database at all, but long enough to look at"), 0o600))
	_, err = records.Open(t.Context(), dir)
	assert.ErrorContains(t, err, "is urbankeep.db really a database of urbankeep?")
}

func TestAnAccountComesBackAsItWasSaved(t *testing.T) {
	db, err := records.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: "/x"}))
	at := time.Date(2026, 3, 1, 12, 0, 0, 123000, time.UTC)
	a := &keep.Account{Name: "crew-harbour", Note: "n", State: keep.StateActive, SignInBy: keep.ByBoth, PasswordHash: "h", AllowPlain: true, Created: at, Changed: at,
		Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "{account}"}, {At: "/maps", Store: "files", Folder: "maps", ReadOnly: true}},
		Grants: []keep.Grant{{Path: "/", Rights: keep.Full}, {Path: "/maps", Rights: keep.List | keep.Download}}}
	require.NoError(t, db.AddAccount(t.Context(), a))
	back, err := db.Account(t.Context(), "CREW-harbour")
	require.NoError(t, err)
	assert.Equal(t, a, back)
	assert.ErrorIs(t, db.AddAccount(t.Context(), &keep.Account{Name: "Crew-Harbour", State: keep.StateActive, SignInBy: keep.ByEither}), records.ErrTaken)
	_, err = db.Account(t.Context(), "nobody")
	assert.ErrorIs(t, err, records.ErrNotFound)
}
