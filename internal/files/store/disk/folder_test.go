package disk_test

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/disk"
)

// both runs a test on each kind of folder, in a jail beside which a secret lies.
func both(t *testing.T, test func(t *testing.T, f store.Folder, jail string)) {
	for name, open := range map[string]func(string) (store.Folder, error){"descriptors": disk.OpenHere, "portable": disk.OpenRooted} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			jail := filepath.Join(dir, "jail")
			require.NoError(t, os.MkdirAll(filepath.Join(jail, "sub", "deep"), 0o750))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("secret"), 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(jail, "own"), []byte("own"), 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(jail, "sub", "f"), []byte("f"), 0o644))
			for link, to := range map[string]string{"way": "../secret", "up": "..", "inside": "sub", "toown": "own", "nowhere": "none", "abs": "/etc"} {
				require.NoError(t, os.Symlink(to, filepath.Join(jail, link)))
			}
			f, err := open(jail)
			require.NoError(t, err)
			defer f.Close()
			test(t, f, jail)
			text, err := os.ReadFile(filepath.Join(dir, "secret"))
			require.NoError(t, err)
			assert.Equal(t, "secret", string(text))
			entries, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Len(t, entries, 2, "nothing came about beside the jail")
		})
	}
}

// Every call takes single names only, and follows no link.
func TestAFolderIsLeftByNoName(t *testing.T) {
	both(t, func(t *testing.T, f store.Folder, jail string) {
		links := f.(store.Linker)
		for _, name := range []string{"", "..", "../secret", "sub/f", "sub/../../secret", "/etc/passwd", "own\x00", "sub/"} {
			_, err := f.Open(name, os.O_RDWR|os.O_CREATE, 0o600)
			assert.Error(t, err, name)
			_, err = f.Lookup(name)
			assert.Error(t, err, name)
			_, err = f.Enter(name)
			assert.Error(t, err, name)
			_, err = links.Readlink(name)
			assert.Error(t, err, name)
			for _, err := range []error{f.Mkdir(name, 0o700), f.Remove(name, false), f.Remove(name, true), f.Rename("own", f, name, true), f.Rename(name, f, "x", true), f.SetMode(name, 0o777),
				f.SetTimes(name, time.Now(), time.Now()), links.Link(name, f, "x"), links.Link("own", f, name), links.Symlink("own", name)} {
				assert.Error(t, err, name)
			}
		}
		for _, link := range []string{"way", "toown", "up", "inside", "nowhere", "abs"} {
			for _, flag := range []int{os.O_RDONLY, os.O_WRONLY, os.O_WRONLY | os.O_CREATE} {
				_, err := f.Open(link, flag, 0o600)
				assert.ErrorIs(t, err, store.ErrLink, link)
			}
			_, err := f.Enter(link)
			assert.ErrorIs(t, err, store.ErrLink, link)
			_, err = f.Cross(link)
			assert.ErrorIs(t, err, store.ErrLink, link)
			_, err = f.Cross(link + "/deep")
			assert.ErrorIs(t, err, store.ErrLink, link)
			info, err := f.Lookup(link)
			require.NoError(t, err)
			assert.NotZero(t, info.Mode()&fs.ModeSymlink)
			f.SetMode(link, 0o777)
		}
		_, err := f.Cross("../jail")
		assert.Error(t, err)
		_, err = f.Cross("own/x")
		assert.Error(t, err)
		info, err := os.Stat(filepath.Join(jail, "own"))
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o644), info.Mode().Perm(), "a mode goes to no link's target")
		assert.NoFileExists(t, filepath.Join(jail, "none"))
	})
}

func TestAFolderDoesWhatItSays(t *testing.T) {
	both(t, func(t *testing.T, f store.Folder, jail string) {
		sub, err := f.Enter("sub")
		require.NoError(t, err)
		defer sub.Close()
		assert.ErrorIs(t, f.Rename("own", sub, "f", false), fs.ErrExist)
		require.NoError(t, f.Rename("own", sub, "g", false))
		require.NoError(t, sub.Rename("g", sub, "f", true))
		text, err := os.ReadFile(filepath.Join(jail, "sub", "f"))
		require.NoError(t, err)
		assert.Equal(t, "own", string(text))
		assert.ErrorIs(t, sub.Rename("deep", f, "inside", false), fs.ErrExist)
		require.NoError(t, sub.Rename("deep", f, "deep", false))
		assert.Error(t, f.Remove("deep", false), "a folder is removed as a folder")
		require.NoError(t, f.Remove("deep", true))
		require.NoError(t, f.(store.Linker).Link("toown", sub, "same"), "a link itself gets a second name, not what it leads to")
		when := time.Date(2001, 2, 3, 4, 5, 6, 0, time.UTC)
		require.NoError(t, sub.SetTimes("f", time.Time{}, when))
		require.NoError(t, sub.SetMode("f", 0o604))
		info, err := sub.Lookup("f")
		require.NoError(t, err)
		assert.True(t, info.ModTime().Equal(when))
		assert.Equal(t, fs.FileMode(0o604), info.Mode())
		assert.EqualValues(t, 3, info.Size())
		entries, err := sub.Entries()
		require.NoError(t, err)
		defer entries.Close()
		var names []string
		for {
			page, err := entries.Next(store.SmallRead)
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			for _, one := range page {
				names = append(names, one.Name())
			}
		}
		assert.Equal(t, []string{"f", "same"}, names)
	})
}

// A name that is swapped between a folder, a file and a link is never followed.
func TestASwappedNameLeadsNowhere(t *testing.T) {
	both(t, func(t *testing.T, f store.Folder, jail string) {
		require.NoError(t, os.Mkdir(filepath.Join(jail, "other"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(jail, "other", "f"), []byte("other"), 0o600))
		var over atomic.Bool
		var swapper sync.WaitGroup
		swapper.Go(func() {
			for !over.Load() {
				os.Rename(filepath.Join(jail, "sub"), filepath.Join(jail, "aside"))
				os.Symlink("other", filepath.Join(jail, "sub"))
				os.Remove(filepath.Join(jail, "sub"))
				os.Rename(filepath.Join(jail, "aside"), filepath.Join(jail, "sub"))
				runtime.Gosched()
			}
		})
		for range 3000 {
			in, err := f.Cross("sub")
			if err != nil {
				continue
			}
			if file, err := in.Open("f", os.O_RDONLY, 0); err == nil {
				text, _ := io.ReadAll(file)
				file.Close()
				if string(text) != "f" {
					t.Errorf("a link was followed: %q", text)
				}
			}
			in.Close()
		}
		over.Store(true)
		swapper.Wait()
	})
}

// Of many that rename to one free name one succeeds, and no file is lost.
func TestARenameThatMustNotReplaceNeverDoes(t *testing.T) {
	both(t, func(t *testing.T, f store.Folder, jail string) {
		for round := range 200 {
			var racers sync.WaitGroup
			var won atomic.Int32
			for n := range 4 {
				name := string(rune('a' + n))
				require.NoError(t, os.WriteFile(filepath.Join(jail, name), nil, 0o600))
				racers.Go(func() {
					if err := f.Rename(name, f, "target", false); err == nil {
						won.Add(1)
					} else if !errors.Is(err, fs.ErrExist) {
						t.Error(err)
					}
				})
			}
			racers.Wait()
			require.EqualValues(t, 1, won.Load(), "round %d", round)
			require.NoError(t, f.Remove("target", false))
		}
	})
}
