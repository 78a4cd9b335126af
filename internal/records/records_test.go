package records_test

import (
	"database/sql"
	"fmt"
	"net/netip"
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

// atVersion makes the tables of an earlier version.
func atVersion(t *testing.T, file *sql.DB, version int) {
	for n := 1; n <= version; n++ {
		found, err := filepath.Glob(fmt.Sprintf("migrations/%04d_*.sql", n))
		require.NoError(t, err)
		text, err := os.ReadFile(found[0])
		require.NoError(t, err)
		_, err = file.Exec(string(text))
		require.NoError(t, err)
	}
	_, err := file.Exec(fmt.Sprintf("PRAGMA user_version = %d", version))
	require.NoError(t, err)
}

// Since version 14 the grants of groups don't count on a folder on which an account has
// its own: whoever had both keeps what they added up to.
func TestGrantsThatAddedUpAreKeptAsTheAccountsOwn(t *testing.T) {
	dir := t.TempDir()
	file, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	atVersion(t, file, 13)
	_, err = file.Exec(`INSERT INTO account_group (name, note, settings, mounts, grants, created, changed) VALUES
		('Crews', '', '{}', '[]', '[{"path":"/","rights":"list"},{"path":"/maps","rights":"list,download"}]', 1, 1),
		('desk', '', '{}', '[]', '[{"path":"/","rights":"delete","never":["*.exe"]},{"path":"/in","rights":"upload"}]', 1, 1);
		INSERT INTO account (name, note, state, password_hash, created, changed, groups, settings, mounts, grants) VALUES
		('ann', '', 'active', '', 1, 1, '["crews","desk"]', '{}', '[{"at":"/","store":"files","folder":"ann"}]', '[{"path":"/in","rights":"list"},{"path":"/","rights":"upload"}]'),
		('ben', '', 'active', '', 1, 1, '["crews"]', '{}', '[{"at":"/","store":"files","folder":"ben"}]', '[{"path":"/in","rights":"list"}]'),
		('cal', '', 'active', '', 1, 1, '[]', '{}', '[]', '[]')`)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	own := func(name string) []keep.Grant {
		a, err := db.Account(t.Context(), name)
		require.NoError(t, err)
		return a.Grants
	}
	assert.ElementsMatch(t, []keep.Grant{{Path: "/in", Rights: keep.List}, {Path: "/", Rights: keep.Upload}, {Path: "/", Rights: keep.List},
		{Path: "/", Rights: keep.Delete, Never: []string{"*.exe"}}, {Path: "/in", Rights: keep.Upload}}, own("ann"))
	assert.Equal(t, []keep.Grant{{Path: "/in", Rights: keep.List}}, own("ben"), "what never met stays as it was")
	assert.Empty(t, own("cal"))
}

// What an earlier version has recorded of accounts is there after the records were
// brought to this one's form.
func TestAccountsOfAnEarlierVersionKeepTheirRules(t *testing.T) {
	dir := t.TempDir()
	file, err := sql.Open("sqlite", filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	atVersion(t, file, 5)
	_, err = file.Exec(`
		INSERT INTO store VALUES ('files', '/srv/files');
		INSERT INTO account (id, name, note, state, password_hash, allow_plain, created, changed, last_sign_in, sign_in_by, valid_until, max_sessions, max_upload)
			VALUES (7, 'ann', 'n', 'suspended', 'h', 1, 1000000, 2000000, 3000000, 'both', 4070908800000000, 3, 4096);
		INSERT INTO account_mount VALUES (7, '/', 'files', '{account}', 0), (7, '/maps', 'files', 'maps', 1);
		INSERT INTO account_grant VALUES (7, '/', 'full'), (7, '/maps', 'list,download');
		INSERT INTO account (name, note, state, password_hash, allow_plain, created, changed) VALUES ('ben', '', 'active', '', 0, 1, 1)`)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	db, err := records.Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	a, err := db.Account(t.Context(), "ann")
	require.NoError(t, err)
	e, err := db.Resolve(t.Context(), a)
	require.NoError(t, err)
	assert.Equal(t, keep.ByBoth, e.SignInBy)
	assert.Equal(t, keep.EncryptionOptional, e.Encryption)
	assert.Equal(t, "2099-01-01 00:00 UTC", e.ValidUntil.String())
	assert.EqualValues(t, 3, e.MaxSessions)
	assert.EqualValues(t, 4096, e.MaxUpload)
	assert.True(t, e.Furnished)
	assert.Equal(t, []keep.Mount{{At: "/", Store: "files", Folder: "{account}"}, {At: "/maps", Store: "files", Folder: "maps", ReadOnly: true}}, a.Mounts)
	assert.Equal(t, []keep.Grant{{Path: "/", Rights: keep.Full}, {Path: "/maps", Rights: keep.List | keep.Download}}, a.Grants)
	ben, err := db.Account(t.Context(), "ben")
	require.NoError(t, err)
	assert.Equal(t, keep.Settings{}, ben.Settings)
}

func TestAFolderThatCannotBeWrittenIsAClearError(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := records.Open(t.Context(), filepath.Join(file, "data"))
	assert.ErrorContains(t, err, "choose another with -data, or make it writable")

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "urbankeep.db"), []byte("this is no database at all, but long enough to look at"), 0o600))
	_, err = records.Open(t.Context(), dir)
	assert.ErrorContains(t, err, "no database of urbankeep: put it back")
}

func TestAnAccountComesBackAsItWasSaved(t *testing.T) {
	db, err := records.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: "/x"}))
	at := time.Date(2026, 3, 1, 12, 0, 0, 123000, time.UTC)
	a := &keep.Account{Name: "crew-harbour", Note: "n", State: keep.StateActive, Mail: "crew@port-selwyn.example", Groups: []string{"crews"}, MustChange: true,
		Settings: keep.Settings{SignInBy: new(keep.ByBoth), Allow: new(keep.Networks{netip.MustParsePrefix("192.0.2.0/24")}), Umask: new(keep.Mode(0o007)), ValidUntil: &keep.Moment{Time: at}}, PasswordHash: "h", Created: at, Changed: at,
		Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "{account}"}, {At: "/maps", Store: "files", Folder: "maps", ReadOnly: true}},
		Grants: []keep.Grant{{Path: "/", Rights: keep.Full, Never: []string{"*.exe"}, Window: &keep.Window{Days: "mon-fri", Zone: "Europe/Oslo"}}, {Path: "/maps", Rights: keep.List | keep.Download}}}
	require.NoError(t, db.AddAccount(t.Context(), a))
	back, err := db.Account(t.Context(), "CREW-harbour")
	require.NoError(t, err)
	assert.Equal(t, a, back)
	assert.ErrorIs(t, db.AddAccount(t.Context(), &keep.Account{Name: "Crew-Harbour", State: keep.StateActive}), records.ErrTaken)
	_, err = db.Account(t.Context(), "nobody")
	assert.ErrorIs(t, err, records.ErrNotFound)
}
