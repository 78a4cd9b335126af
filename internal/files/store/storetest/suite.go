package storetest

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
)

// Kind is a kind of store that is tried.
type Kind struct {
	Open    func(t *testing.T) store.Folder // an empty folder; the suite closes it
	Links   bool                            // it has symbolic links
	Exact   bool                            // names may be any bytes, not only UTF-8
	Refuses string                          // characters that names can't have
	Many    int                             // how many names one folder is tried with
	Large   int64                           // of a large file, bytes
	Rounds  int                             // of random work on one file
	Modes   bool                            // it keeps modes
	Shared  bool                            // two writers of one file see each other, as on a disk
}

// Run tries everything.
func Run(t *testing.T, k Kind) {
	for name, try := range map[string]func(*testing.T, Kind, store.Folder){
		"names": names, "contents": contents, "random": random, "cut off": cutOff, "synced": synced, "twice": twice, "folders": folders, "many": many, "races": races, "replaced while read": replaced, "large": large, "facts": facts, "swept": leftovers,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := k.Open(t)
			defer f.Close()
			try(t, k, f)
		})
	}
}

// Put writes a file with one content.
func Put(t require.TestingT, f store.Folder, name string, content []byte) {
	file, err := f.Open(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
	require.NoError(t, err, name)
	n, err := file.WriteAt(content, 0)
	require.NoError(t, err, name)
	require.Equal(t, len(content), n)
	require.NoError(t, store.End(file, true, false), name)
}

// Get reads a file.
func Get(t require.TestingT, f store.Folder, name string) []byte {
	content, err := read(f, name)
	require.NoError(t, err, name)
	return content
}

func read(f store.Folder, name string) ([]byte, error) {
	file, err := f.Open(name, os.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(file)
}

// List gives all names of a folder, in order.
func List(t require.TestingT, f store.Folder) (names []string) {
	for _, info := range all(t, f) {
		names = append(names, info.Name())
	}
	slices.Sort(names)
	return names
}

func all(t require.TestingT, f store.Folder) (found []fs.FileInfo) {
	entries, err := f.Entries()
	require.NoError(t, err)
	defer entries.Close()
	for {
		page, err := entries.Next(store.LargeRead)
		if err == io.EOF {
			_, err := entries.Next(store.LargeRead)
			require.ErrorIs(t, err, io.EOF, "the end stays the end")
			return slices.DeleteFunc(found, func(info fs.FileInfo) bool { return store.Reserved(info.Name()) })
		}
		require.NoError(t, err)
		found = append(found, page...)
	}
}

func sample(size int) []byte {
	content := make([]byte, size)
	rand.NewChaCha8([32]byte{byte(size), byte(size >> 8), byte(size >> 16)}).Read(content)
	return content
}

// names tries what is no single name, and names that are odd.
func names(t *testing.T, k Kind, f store.Folder) {
	for _, name := range []string{"", "..", "../x", "a/b", "a/../b", "/etc", "x\x00", "a/"} {
		_, err := f.Open(name, os.O_RDWR|os.O_CREATE, store.FileMode)
		assert.Error(t, err, "%q", name)
		_, err = f.Lookup(name)
		assert.Error(t, err, "%q", name)
		_, err = f.Enter(name)
		assert.Error(t, err, "%q", name)
		for _, err := range []error{f.Mkdir(name, 0o750), f.Remove(name, false), f.Remove(name, true), f.Rename(name, f, "x", true), f.Rename("x", f, name, true)} {
			assert.Error(t, err, "%q", name)
		}
	}
	assert.Empty(t, List(t, f))
	odd := []string{"a b", " ", "-", "...", "ü", "u\u0308", "日本", "100%", "%41", "a+b&c=d", "x?y#z", `q"'`, "<a>", "semi;colon", strings.Repeat("n", 120), "a", "a-", "a.b", "A'", "tab\there", "co:lon", "back\\slash"}
	if k.Exact {
		odd = append(odd, "\xff\xfe")
	}
	odd = slices.DeleteFunc(odd, func(name string) bool { return strings.ContainsAny(name, k.Refuses) })
	for _, c := range k.Refuses {
		_, err := f.Open("a"+string(c)+"b", os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
		assert.Error(t, err)
	}
	for i, name := range odd {
		Put(t, f, name, []byte(fmt.Sprint(i)))
	}
	want := slices.Clone(odd)
	slices.Sort(want)
	assert.Equal(t, want, List(t, f))
	for i, name := range odd {
		assert.Equal(t, fmt.Sprint(i), string(Get(t, f, name)), "%q", name)
		info, err := f.Lookup(name)
		if assert.NoError(t, err, "%q", name) {
			assert.Equal(t, name, info.Name())
		}
		require.NoError(t, f.Mkdir("in "+name, 0o750), "%q", name)
		inner, err := f.Enter("in " + name)
		require.NoError(t, err)
		require.NoError(t, f.Rename(name, inner, name, false), "%q", name)
		assert.Equal(t, []string{name}, List(t, inner))
		inner.Close()
	}
}

// contents tries sizes around the borders of blocks, and reading at places.
func contents(t *testing.T, _ Kind, f store.Folder) {
	for _, size := range []int{0, 1, 65519, 65535, 65536, 65537, 131072, 1<<20 + 3, 9<<20 + 1} {
		name, content := fmt.Sprint(size), sample(size)
		file, err := f.Open(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
		require.NoError(t, err)
		for from := 0; from < size; from += 200_000 {
			_, err := file.WriteAt(content[from:min(size, from+200_000)], int64(from))
			require.NoError(t, err)
		}
		require.NoError(t, store.End(file, true, false))
		require.True(t, bytes.Equal(content, Get(t, f, name)), "%s", name)
		info, err := f.Lookup(name)
		require.NoError(t, err)
		assert.EqualValues(t, size, info.Size())
		open, err := f.Open(name, os.O_RDONLY, 0)
		require.NoError(t, err)
		for range 20 {
			from := rand.IntN(size + 1)
			part := make([]byte, rand.IntN(100_000)+1)
			n, err := open.ReadAt(part, int64(from))
			if n < len(part) {
				require.ErrorIs(t, err, io.EOF)
			} else {
				require.NoError(t, err)
			}
			require.True(t, bytes.Equal(content[from:min(size, from+len(part))], part[:n]), "%d from %d", size, from)
		}
		_, err = open.WriteAt([]byte("x"), 0)
		assert.Error(t, err, "it was opened for reading")
		n, err := open.Seek(-int64(size/2), io.SeekEnd)
		require.NoError(t, err)
		rest, err := io.ReadAll(open)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(content[n:], rest))
		require.NoError(t, open.Close())
	}
}

// random holds a file against a slice of bytes, through openings of every sort.
func random(t *testing.T, k Kind, f store.Folder) {
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 2))
	defer func() {
		if t.Failed() {
			t.Log("seed", seed)
		}
	}()
	var model []byte
	there := false
	for range k.Rounds {
		flag := []int{os.O_WRONLY, os.O_RDWR, os.O_WRONLY | os.O_APPEND}[r.IntN(3)]
		if !there {
			flag |= os.O_CREATE | os.O_EXCL
		}
		file, err := f.Open("f", flag, store.FileMode)
		require.NoError(t, err)
		there = true
		if r.IntN(3) == 0 {
			require.NoError(t, file.Truncate(0))
			model = nil
		}
		at := len(model)
		if r.IntN(2) == 0 {
			at = 0
		}
		for range r.IntN(12) {
			piece := sample(r.IntN(150_000) + 1)
			switch {
			case flag&os.O_APPEND != 0:
				_, err = file.Write(piece)
				require.NoError(t, err)
				model = append(model, piece...)
				continue
			case r.IntN(8) == 0:
				at = r.IntN(len(model) + 100_000)
			case r.IntN(10) == 0:
				size := r.IntN(len(model) + 70_000)
				require.NoError(t, file.Truncate(int64(size)))
				model = append(model, make([]byte, max(0, size-len(model)))...)[:size]
				continue
			case r.IntN(8) == 0 && flag&os.O_RDWR != 0 && len(model) > 0:
				from := r.IntN(len(model))
				part := make([]byte, min(len(model)-from, 70_000))
				_, err := file.ReadAt(part, int64(from))
				require.NoError(t, err)
				require.True(t, bytes.Equal(model[from:from+len(part)], part), "what was written is read back")
				continue
			}
			_, err := file.WriteAt(piece, int64(at))
			require.NoError(t, err)
			if end := at + len(piece); end > len(model) {
				model = append(model, make([]byte, end-len(model))...)
			}
			copy(model[at:], piece)
			at += len(piece)
			info, err := file.Stat()
			require.NoError(t, err)
			require.EqualValues(t, len(model), info.Size())
		}
		require.NoError(t, store.End(file, true, false))
		got := Get(t, f, "f")
		require.Equal(t, len(model), len(got))
		require.True(t, bytes.Equal(model, got))
		info, err := f.Lookup("f")
		require.NoError(t, err)
		require.EqualValues(t, len(model), info.Size())
	}
}

// synced brings what was written so far under its name, and goes on.
func synced(t *testing.T, _ Kind, f store.Folder) {
	for _, flag := range []int{os.O_WRONLY, os.O_RDWR} {
		name := fmt.Sprint("f", flag)
		file, err := f.Open(name, flag|os.O_CREATE|os.O_EXCL, store.FileMode)
		require.NoError(t, err)
		content := sample(300_000)
		_, err = file.WriteAt(content, 0)
		require.NoError(t, err)
		require.NoError(t, file.Sync())
		assert.True(t, bytes.Equal(content, Get(t, f, name)))
		more := sample(100_000)
		_, err = file.WriteAt(more, int64(len(content)))
		require.NoError(t, err)
		require.NoError(t, file.Sync())
		require.NoError(t, file.Sync())
		_, err = file.WriteAt([]byte("at the start"), 0)
		require.NoError(t, err)
		require.NoError(t, store.End(file, true, true))
		content = append(content, more...)
		copy(content, "at the start")
		assert.True(t, bytes.Equal(content, Get(t, f, name)))
	}
}

// twice has two open one file at once: as on a disk they work on the same, and what each acknowledges is there.
func twice(t *testing.T, _ Kind, f store.Folder) {
	Put(t, f, "f", sample(200_000))
	content := sample(200_000)
	one, err := f.Open("f", os.O_RDWR, 0)
	require.NoError(t, err)
	two, err := f.Open("f", os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = one.WriteAt([]byte("one"), 100)
	require.NoError(t, err)
	require.NoError(t, two.Truncate(150_000))
	require.NoError(t, store.End(two, true, false))
	info, err := f.Lookup("f")
	require.NoError(t, err)
	assert.EqualValues(t, 150_000, info.Size())
	_, err = one.WriteAt([]byte("again"), 149_999)
	require.NoError(t, err)
	info, err = f.Lookup("f")
	require.NoError(t, err)
	assert.EqualValues(t, 150_004, info.Size(), "who looks sees what is in work")
	three, err := f.Open("f", os.O_WRONLY, 0)
	require.NoError(t, err)
	seen, err := three.Stat()
	require.NoError(t, err)
	assert.True(t, store.Same(info, seen))
	require.NoError(t, store.End(one, true, false))
	_, err = three.WriteAt([]byte("three"), 7)
	require.NoError(t, err)
	require.NoError(t, store.End(three, true, false))
	content = append(content[:149_999], "again"...)
	copy(content[100:], "one")
	copy(content[7:], "three")
	assert.True(t, bytes.Equal(content, Get(t, f, "f")))
	assert.Equal(t, []string{"f"}, List(t, f))
}

// cutOff ends uploads in the middle: what is under the name is whole, or what came.
func cutOff(t *testing.T, _ Kind, f store.Folder) {
	content := sample(6 << 20)
	for _, old := range []bool{false, true} {
		name := fmt.Sprint("old ", old)
		flag := os.O_WRONLY | os.O_CREATE | os.O_EXCL
		if old {
			Put(t, f, name, []byte("what was there"))
			flag = os.O_WRONLY
		}
		file, err := f.Open(name, flag, store.FileMode)
		require.NoError(t, err)
		if old {
			require.NoError(t, file.Truncate(0))
		}
		_, err = file.WriteAt(content, 0)
		require.NoError(t, err)
		_, whole := file.(store.Whole)
		require.NoError(t, store.End(file, false, true))
		got, err := read(f, name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			assert.False(t, old, "what was there is not lost")
			assert.True(t, whole)
			assert.Empty(t, List(t, f))
		case err != nil:
			assert.NoError(t, err)
		case string(got) == "what was there":
			assert.True(t, old && whole)
		default:
			assert.True(t, bytes.Equal(content, got), "what came is kept")
		}
		if _, err := f.Lookup(name); err == nil {
			require.NoError(t, f.Remove(name, false))
		}
		Put(t, f, name, content)
		assert.True(t, bytes.Equal(content, Get(t, f, name)), "the name can be used again")
		require.NoError(t, f.Remove(name, false))
	}
}

// folders tries what is done to names.
func folders(t *testing.T, k Kind, f store.Folder) {
	require.NoError(t, f.Mkdir("a", 0o750))
	assert.ErrorIs(t, f.Mkdir("a", 0o750), fs.ErrExist)
	assert.Equal(t, []string{"a"}, List(t, f), "an empty folder is there")
	info, err := f.Lookup("a")
	require.NoError(t, err)
	assert.True(t, info.IsDir())
	a, err := f.Enter("a")
	require.NoError(t, err)
	defer a.Close()
	self, err := a.Lookup(".")
	require.NoError(t, err)
	assert.True(t, self.IsDir())
	Put(t, a, "one", []byte("1"))
	Put(t, f, "two", []byte("2"))
	assert.ErrorIs(t, f.Mkdir("two", 0o750), fs.ErrExist)
	_, err = f.Enter("two")
	assert.Error(t, err, "a file is no folder")
	_, err = f.Enter("none")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Lookup("none")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Open("none", os.O_RDONLY, 0)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Open("none", os.O_WRONLY, 0)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Open("two", os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
	assert.ErrorIs(t, err, fs.ErrExist)
	assert.Error(t, f.Remove("a", true), "it is not empty")
	assert.Error(t, f.Remove("a", false), "a folder is removed as a folder")
	assert.Error(t, f.Remove("two", true), "a file is no folder")
	assert.ErrorIs(t, f.Remove("none", false), fs.ErrNotExist)
	assert.ErrorIs(t, f.Rename("two", a, "one", false), fs.ErrExist)
	require.NoError(t, f.Rename("two", a, "two", false))
	require.NoError(t, a.Rename("two", a, "one", true))
	assert.Equal(t, "2", string(Get(t, a, "one")))
	assert.ErrorIs(t, a.Rename("none", a, "x", false), fs.ErrNotExist)
	require.NoError(t, a.Mkdir("deep", 0o750))
	deep, err := f.Cross("a/deep")
	require.NoError(t, err)
	Put(t, deep, "below", []byte("3"))
	deep.Close()
	require.NoError(t, f.Mkdir("b", 0o750))
	assert.ErrorIs(t, f.Rename("a", f, "b", false), fs.ErrExist)
	require.NoError(t, f.Rename("a", f, "c", false))
	assert.Equal(t, []string{"b", "c"}, List(t, f))
	moved, err := f.Cross("c/deep")
	require.NoError(t, err)
	assert.Equal(t, "3", string(Get(t, moved, "below")))
	require.NoError(t, moved.Remove("below", false))
	assert.Empty(t, List(t, moved), "a folder stays when its last file goes")
	moved.Close()
	_, err = f.Cross("a/deep")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	c, err := f.Enter("c")
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.Remove("deep", true))
	require.NoError(t, c.Remove("one", false))
	require.NoError(t, f.Remove("c", true))
	require.NoError(t, f.Remove("b", true))
	assert.Empty(t, List(t, f))
	if links, can := f.(store.Linker); can && k.Links {
		Put(t, f, "file", []byte("x"))
		require.NoError(t, links.Symlink("file", "link"))
		text, err := links.Readlink("link")
		require.NoError(t, err)
		assert.Equal(t, "file", text)
		_, err = f.Open("link", os.O_RDONLY, 0)
		assert.ErrorIs(t, err, store.ErrLink)
		_, err = f.Enter("link")
		assert.ErrorIs(t, err, store.ErrLink)
		info, err := f.Lookup("link")
		require.NoError(t, err)
		assert.NotZero(t, info.Mode()&fs.ModeSymlink)
		require.NoError(t, f.Remove("link", false))
		assert.Equal(t, "x", string(Get(t, f, "file")))
	}
}

// many lists a folder of many names, files and folders.
func many(t *testing.T, k Kind, f store.Folder) {
	var want []string
	var work sync.WaitGroup
	places := make(chan struct{}, 8)
	for i := range k.Many {
		name := fmt.Sprintf("n%05d", i)
		want = append(want, name)
		places <- struct{}{}
		work.Go(func() {
			defer func() { <-places }()
			if i%10 == 0 {
				assert.NoError(t, f.Mkdir(name, 0o750))
			} else {
				Put(assertive{t}, f, name, []byte(name))
			}
		})
	}
	work.Wait()
	found := all(t, f)
	var got []string
	for _, info := range found {
		got = append(got, info.Name())
		if !info.IsDir() {
			assert.EqualValues(t, 6, info.Size(), info.Name())
		}
		assert.Equal(t, strings.HasSuffix(info.Name(), "0"), info.IsDir(), info.Name())
	}
	slices.Sort(got)
	assert.Equal(t, want, got)
}

// assertive lets require be used in other goroutines: it ends those.
type assertive struct{ t *testing.T }

func (a assertive) Errorf(format string, args ...any) { a.t.Errorf(format, args...) }
func (a assertive) FailNow()                          { panic("the store failed; see above") }

// races has several make, move and replace one name at once.
func races(t *testing.T, _ Kind, f store.Folder) {
	const at = 8
	for round := range 4 {
		name := fmt.Sprint("made ", round)
		var won atomic.Int32
		var winner atomic.Value
		together(at, func(i int) {
			file, err := f.Open(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
			if err != nil {
				return
			}
			content := sample(100_000 + i)
			_, err = file.WriteAt(content, 0)
			err = errors.Join(err, store.End(file, err == nil, false))
			if err == nil {
				won.Add(1)
				winner.Store(content)
			}
		})
		assert.EqualValues(t, 1, won.Load(), "one makes a name")
		assert.True(t, bytes.Equal(winner.Load().([]byte), Get(t, f, name)))
		won.Store(0)
		for i := range at {
			Put(t, f, fmt.Sprint("from ", i), []byte(fmt.Sprint(i)))
		}
		target := fmt.Sprint("to ", round)
		together(at, func(i int) {
			if f.Rename(fmt.Sprint("from ", i), f, target, false) == nil {
				won.Add(1)
				winner.Store([]byte(fmt.Sprint(i)))
			}
		})
		assert.EqualValues(t, 1, won.Load(), "one moves to a name")
		assert.Equal(t, string(winner.Load().([]byte)), string(Get(t, f, target)))
		left := 0
		for i := range at {
			if f.Remove(fmt.Sprint("from ", i), false) == nil {
				left++
			}
		}
		assert.Equal(t, at-1, left, "who lost has lost no file")
		won.Store(0)
		together(at, func(int) {
			if f.Mkdir(fmt.Sprint("folder ", round), 0o750) == nil {
				won.Add(1)
			}
		})
		assert.EqualValues(t, 1, won.Load(), "one makes a folder")
	}
}

func together(n int, do func(i int)) {
	var work sync.WaitGroup
	start := make(chan struct{})
	for i := range n {
		work.Go(func() { <-start; do(i) })
	}
	close(start)
	work.Wait()
}

// replaced reads a file while another takes its place: nobody reads a mixture.
func replaced(t *testing.T, _ Kind, f store.Folder) {
	const size = 1 << 20
	of := func(b byte) []byte { return bytes.Repeat([]byte{b}, size) }
	Put(t, f, "f", of('a'))
	stop := make(chan struct{})
	var work sync.WaitGroup
	work.Go(func() {
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			got, err := read(f, "f")
			if err != nil {
				continue // it was replaced meanwhile, and that was said
			}
			if !assert.Len(t, got, size) || !assert.Equal(t, size, bytes.Count(got, got[:1]), "what is read is one content") {
				return
			}
		}
	})
	for i := range 6 {
		Put(t, f, "next", of(byte('b'+i)))
		require.NoError(t, f.Rename("next", f, "f", true))
	}
	close(stop)
	work.Wait()
	assert.True(t, bytes.Equal(of('g'), Get(t, f, "f")))
}

// large writes a large file from its beginning to its end, and reads it.
func large(t *testing.T, k Kind, f store.Folder) {
	piece := sample(256 << 10)
	file, err := f.Open("large", os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
	require.NoError(t, err)
	for at := int64(0); at < k.Large; at += int64(len(piece)) {
		piece[0] = byte(at >> 18)
		_, err := file.WriteAt(piece, at)
		require.NoError(t, err)
	}
	require.NoError(t, store.End(file, true, false))
	open, err := f.Open("large", os.O_RDONLY, 0)
	require.NoError(t, err)
	defer open.Close()
	got := make([]byte, len(piece))
	for at := int64(0); at < k.Large; at += int64(len(piece)) {
		_, err := io.ReadFull(open, got)
		require.NoError(t, err)
		piece[0] = byte(at >> 18)
		require.True(t, bytes.Equal(piece, got), "at %d", at)
	}
	n, err := open.Read(got)
	assert.Zero(t, n)
	assert.ErrorIs(t, err, io.EOF)
}

// facts tries times and modes, where the kind keeps them.
func facts(t *testing.T, k Kind, f store.Folder) {
	before := time.Now().Add(-2 * time.Minute)
	Put(t, f, "f", []byte("x"))
	info, err := f.Lookup("f")
	require.NoError(t, err)
	assert.True(t, info.ModTime().After(before))
	when := time.Date(2001, 2, 3, 4, 5, 6, 0, time.UTC)
	require.NoError(t, f.SetTimes("f", time.Time{}, when))
	info, err = f.Lookup("f")
	require.NoError(t, err)
	assert.True(t, when.Equal(info.ModTime()), "%s", info.ModTime())
	assert.Equal(t, "x", string(Get(t, f, "f")))
	if k.Modes {
		require.NoError(t, f.SetMode("f", 0o604))
		info, err = f.Lookup("f")
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o604), info.Mode())
	}
	assert.Error(t, f.SetTimes("none", time.Time{}, when))
	one, err := f.Lookup("f")
	require.NoError(t, err)
	Put(t, f, "g", []byte("x"))
	other, err := f.Lookup("g")
	require.NoError(t, err)
	assert.True(t, store.Same(one, info))
	assert.False(t, store.Same(one, other))
	file, err := f.Open("h", os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
	require.NoError(t, err)
	_, err = file.WriteAt([]byte("y"), 0)
	require.NoError(t, err)
	if err := store.FileTimes(file, time.Time{}, when); err == nil {
		require.NoError(t, store.End(file, true, false))
		info, err = f.Lookup("h")
		require.NoError(t, err)
		assert.True(t, when.Equal(info.ModTime()), "times set before the end hold: %s", info.ModTime())
	} else {
		assert.ErrorIs(t, err, errors.ErrUnsupported)
		require.NoError(t, store.End(file, true, false))
	}
}

// leftovers looks for what work that failed has left behind.
func leftovers(t *testing.T, _ Kind, f store.Folder) {
	for range 3 {
		file, err := f.Open("f", os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
		require.NoError(t, err)
		_, err = file.WriteAt(sample(300_000), 0)
		require.NoError(t, err)
		_, err = file.WriteAt(sample(10), 5)
		require.NoError(t, err)
		require.NoError(t, store.End(file, false, false))
		f.Remove("f", false)
	}
	assert.Empty(t, List(t, f))
}
