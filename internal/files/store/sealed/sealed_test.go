package sealed_test

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/sealed"
	"urbankeep/internal/files/store/storetest"
)

// lies gives everything that is on a disk: names and bytes.
func lies(t *testing.T, dir string) (all []byte) {
	require.NoError(t, filepath.Walk(dir, func(name string, info os.FileInfo, err error) error {
		if err != nil || info.IsDir() {
			return err
		}
		content, err := os.ReadFile(name)
		all = append(append(all, strings.TrimPrefix(name, dir)+"\n"...), content...)
		return err
	}))
	return all
}

func TestNothingOfTheContentsLiesOnTheDiskAndThePublicToolOpensIt(t *testing.T) {
	dir := t.TempDir()
	key, err := sealed.NewKey()
	require.NoError(t, err)
	other, err := sealed.NewKey()
	require.NoError(t, err)
	f := open(t, dir, key, false, other.Recipient())
	defer f.Close()
	secret := bytes.Repeat([]byte("the harbour's plan "), 10_000)
	storetest.Put(t, f, "plan", secret)
	file, err := f.Open("notes", os.O_RDWR|os.O_CREATE|os.O_EXCL, store.FileMode)
	require.NoError(t, err)
	for _, at := range []int64{100, 70_000, 5} { // back and forth, in the spool
		_, err = file.WriteAt(secret, at)
		require.NoError(t, err)
		assert.NotContains(t, string(lies(t, dir)), "harbour's plan", "nor while it is written")
	}
	require.NoError(t, store.End(file, true, true))
	assert.NotContains(t, string(lies(t, dir)), "harbour's plan")
	for _, k := range []*sealed.Key{key, other} {
		ids, err := age.ParseIdentities(strings.NewReader(k.Text(time.Now())))
		require.NoError(t, err)
		in, err := os.Open(filepath.Join(dir, "plan"))
		require.NoError(t, err)
		plain, err := age.Decrypt(in, ids...)
		require.NoError(t, err)
		got, err := io.ReadAll(plain)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(secret, got))
		in.Close()
	}
	stranger, err := sealed.NewKey()
	require.NoError(t, err)
	g := open(t, dir, stranger, false)
	defer g.Close()
	in, err := g.Open("plan", os.O_RDONLY, 0)
	require.NoError(t, err)
	_, err = io.ReadAll(in)
	assert.ErrorContains(t, err, "not encrypted as this store has it")
	in.Close()
}

func TestEncryptedNamesLieNowhereInClear(t *testing.T) {
	dir := t.TempDir()
	key, err := sealed.NewKey()
	require.NoError(t, err)
	f := open(t, dir, key, true)
	defer f.Close()
	require.NoError(t, f.Mkdir("harbour", 0o750))
	in, err := f.Enter("harbour")
	require.NoError(t, err)
	defer in.Close()
	storetest.Put(t, in, "plan.tif", []byte("x"))
	require.NoError(t, in.(store.Linker).Symlink("../harbour/plan.tif", "latest"))
	all := ""
	filepath.Walk(dir, func(name string, info os.FileInfo, err error) error {
		text, _ := os.Readlink(name)
		all += strings.TrimPrefix(name, dir) + text + "\n"
		return err
	})
	for _, word := range []string{"harbour", "plan", "tif", "latest"} {
		assert.NotContains(t, all, word)
	}
	assert.Equal(t, []string{"latest", "plan.tif"}, storetest.List(t, in))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "put here by somebody"), nil, 0o600))
	assert.Equal(t, []string{"harbour"}, storetest.List(t, f), "what is not of the store is not shown")
}

// A file that loses its name while it is being written doesn't come back, and takes no other's place.
func TestAFileThatWentWhileItWasWrittenStaysGone(t *testing.T) {
	key, err := sealed.NewKey()
	require.NoError(t, err)
	f := open(t, t.TempDir(), key, false)
	defer f.Close()
	for name, away := range map[string]func() error{
		"removed":  func() error { return f.Remove("f", false) },
		"moved":    func() error { return f.Rename("f", f, "g", false) },
		"replaced": func() error { storetest.Put(t, f, "new", []byte("new")); return f.Rename("new", f, "f", true) },
	} {
		file, err := f.Open("f", os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
		require.NoError(t, err)
		_, err = file.WriteAt([]byte("late"), 0)
		require.NoError(t, err)
		require.NoError(t, away())
		assert.ErrorContains(t, store.End(file, true, true), "write it again", name)
		for _, left := range storetest.List(t, f) {
			assert.NotEqual(t, "late", string(storetest.Get(t, f, left)), name)
			require.NoError(t, f.Remove(left, false))
		}
	}
}

// A file that its writer has brought to the medium, and goes on with, is one file to whoever reads it meanwhile.
func TestAFileInWorkIsOneFileToItsReaders(t *testing.T) {
	key, err := sealed.NewKey()
	require.NoError(t, err)
	f := open(t, t.TempDir(), key, false)
	defer f.Close()
	writer, err := f.Open("f", os.O_RDWR|os.O_CREATE, store.FileMode)
	require.NoError(t, err)
	same := func(when string) {
		seen, err := f.Lookup("f")
		require.NoError(t, err)
		reader, err := f.Open("f", os.O_RDONLY, 0)
		require.NoError(t, err)
		defer reader.Close()
		read, err := reader.Stat()
		require.NoError(t, err)
		assert.True(t, store.Same(seen, read), when)
	}
	for _, when := range []string{"once", "twice"} {
		_, err = writer.WriteAt([]byte(when), 0)
		require.NoError(t, err)
		same("written " + when)
		require.NoError(t, writer.Sync())
		same("on the medium " + when)
	}
	require.NoError(t, store.End(writer, true, true))
	same("ended")
}

// What the end of the process leaves in the spool goes at the next start; a name whose content
// never came is an empty file.
func TestWhatTheEndOfTheProcessLeavesGoes(t *testing.T) {
	dir := t.TempDir()
	key, err := sealed.NewKey()
	require.NoError(t, err)
	f := open(t, dir, key, false)
	file, err := f.Open("f", os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
	require.NoError(t, err)
	_, err = file.WriteAt(bytes.Repeat([]byte("x"), 1<<20), 0)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "torn"), nil, 0o600))
	spool, err := os.ReadDir(filepath.Join(dir, store.SpoolName))
	require.NoError(t, err)
	require.Len(t, spool, 1)
	again := open(t, dir, key, false) // as after a kill: nothing was closed
	defer again.Close()
	spool, err = os.ReadDir(filepath.Join(dir, store.SpoolName))
	require.NoError(t, err)
	assert.Empty(t, spool)
	assert.Empty(t, storetest.Get(t, again, "f"))
	assert.Empty(t, storetest.Get(t, again, "torn"))
	assert.Error(t, store.End(file, true, false), "its content is gone")
}

func TestAKeyIsReadWithItsPassphraseOnly(t *testing.T) {
	key, err := sealed.NewKey()
	require.NoError(t, err)
	locked, err := key.Locked("a long passphrase", time.Now())
	require.NoError(t, err)
	assert.NotContains(t, string(locked), "AGE-SECRET-KEY")
	for passphrase, say := range map[string]string{"": "must be given", "another": "not the passphrase"} {
		_, err := sealed.ReadKey(locked, passphrase)
		assert.ErrorContains(t, err, say)
	}
	again, err := sealed.ReadKey(locked, "a long passphrase")
	require.NoError(t, err)
	assert.Equal(t, key.Recipient(), again.Recipient())
	_, err = sealed.ReadKey([]byte("hello"), "")
	assert.ErrorContains(t, err, "no line with a key")
	assert.ErrorContains(t, sealed.CheckRecipient(strings.Split(key.Text(time.Now()), "\n")[2]), "private key")
	assert.ErrorContains(t, sealed.CheckRecipient("age1x"), "no public key")
	assert.NoError(t, sealed.CheckRecipient(key.Recipient()))
}
