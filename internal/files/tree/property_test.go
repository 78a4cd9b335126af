package tree_test

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// witness sees every deed that trees do in a store: one at a time, each in the folder that
// it really happens in, wherever that lies at that moment.
type witness struct {
	t     *testing.T
	files string
	mu    sync.Mutex
	deeds int
}

// where finds a folder by what it is: its path in the store, "" when it has none any more.
func (w *witness) where(f store.Folder) string {
	mine, err := f.Lookup(".")
	if err != nil {
		return ""
	}
	found := ""
	filepath.WalkDir(w.files, func(at string, e fs.DirEntry, err error) error {
		if err != nil || !e.IsDir() {
			return nil
		}
		if info, err := e.Info(); err == nil && store.Same(info, mine) {
			rel, _ := filepath.Rel(w.files, at)
			found = path.Join("/", rel)
			return fs.SkipAll
		}
		return nil
	})
	return found
}

// observed is a folder of one account; what it does is decided again.
type observed struct {
	store.Folder
	w      *witness
	home   store.Folder // of the account: others may move it
	grants []keep.Grant
	moving *bool          // the session moves something: a folder may be counted, of which it is told nothing
	made   *[]fs.FileInfo // files that the session has made: it may set their times and modes
}

func (o *observed) wrap(f store.Folder, err error) (store.Folder, error) {
	if err != nil {
		return nil, err
	}
	return &observed{f, o.w, o.home, o.grants, o.moving, o.made}, nil
}

func (o *observed) Enter(name string) (store.Folder, error) { return o.wrap(o.Folder.Enter(name)) }
func (o *observed) Cross(rel string) (store.Folder, error)  { return o.wrap(o.Folder.Cross(rel)) }

// at is the path in the account's tree of a name in one of its folders, "" when the folder
// is removed.
func (o *observed) at(folder store.Folder, name string) string {
	home, here := o.w.where(o.home), o.w.where(folder)
	if home == "" || here == "" {
		return ""
	}
	if !keep.Covers(home, here) {
		o.w.t.Errorf("something is done in %s, outside of the home %s", here, home)
	}
	return path.Join("/", strings.TrimPrefix(path.Join(here, name), strings.TrimSuffix(home, "/")))
}

// rights are those that the account has on a path of its tree, worked out anew the slow way.
func (o *observed) rights(at string) (given keep.Rights) {
	for p := at; ; p = path.Dir(p) {
		decides := false
		for _, g := range o.grants {
			if g.Path == p {
				decides, given = true, given|g.Rights
			}
		}
		if decides || p == "/" {
			return given
		}
	}
}

// deed does something to a name, and holds it against the right that it takes.
func (o *observed) deed(what, name string, do func() error, needs func(at string) keep.Rights) error {
	o.w.mu.Lock()
	defer o.w.mu.Unlock()
	at := o.at(o.Folder, name)
	need := keep.Rights(0)
	if at != "" {
		need = needs(at) // before: what is there decides
	}
	err := do()
	if err != nil {
		return err
	}
	o.w.deeds++
	if at == "" {
		return nil // a folder that is removed: nothing can be in it
	}
	if has := o.rights(at); !has.Has(need) {
		o.w.t.Errorf("%s happened to %s with %s, which takes %s; %v", what, at, has, need, o.grants)
	}
	return nil
}

func (o *observed) Open(name string, flag int, mode fs.FileMode) (f store.File, err error) {
	err = o.deed("opening", name, func() error {
		if f, err = o.Folder.Open(name, flag, mode); err == nil && flag&os.O_EXCL != 0 {
			if info, err := f.Stat(); err == nil {
				*o.made = append(*o.made, info)
			}
		}
		return err
	}, func(string) keep.Rights {
		switch {
		case flag&os.O_EXCL != 0:
			return keep.Upload
		case flag&(os.O_WRONLY|os.O_RDWR) != 0:
			return keep.Overwrite
		}
		return keep.Download
	})
	return f, err
}

func always(r keep.Rights) func(string) keep.Rights { return func(string) keep.Rights { return r } }

func (o *observed) Mkdir(name string, mode fs.FileMode) error {
	return o.deed("mkdir", name, func() error { return o.Folder.Mkdir(name, mode) }, always(keep.Mkdir))
}
func (o *observed) Remove(name string, folder bool) error {
	return o.deed("removing", name, func() error { return o.Folder.Remove(name, folder) }, always(map[bool]keep.Rights{true: keep.Rmdir, false: keep.Delete}[folder]))
}
func (o *observed) SetTimes(name string, a, m time.Time) error {
	return o.deed("setting times", name, func() error { return o.Folder.SetTimes(name, a, m) }, o.touching(name))
}
func (o *observed) SetMode(name string, mode fs.FileMode) error {
	return o.deed("setting a mode", name, func() error { return o.Folder.SetMode(name, mode) }, o.touching(name))
}

// touching takes the right to touch, but not for what the session has made itself.
func (o *observed) touching(name string) func(string) keep.Rights {
	return func(string) keep.Rights {
		info, err := o.Folder.Lookup(name)
		if err == nil && slices.ContainsFunc(*o.made, func(made fs.FileInfo) bool { return store.Same(made, info) }) {
			return 0
		}
		return keep.Touch
	}
}
func (o *observed) Entries() (e store.Entries, err error) {
	if *o.moving {
		return o.Folder.Entries()
	}
	err = o.deed("listing", ".", func() error { e, err = o.Folder.Entries(); return err }, always(keep.List))
	return e, err
}

func (o *observed) Rename(name string, to store.Folder, target string, replace bool) error {
	into := to.(*observed)
	taken, anchored := false, false
	check := func(at string) keep.Rights {
		for _, g := range o.grants {
			anchored = anchored || keep.Covers(at, g.Path)
		}
		return keep.Rename
	}
	err := o.deed("renaming", name, func() error {
		_, there := into.Folder.Lookup(target)
		at := o.at(into.Folder, target)
		check(at)
		need := keep.Rename
		if taken = there == nil; taken {
			need |= keep.Overwrite
		}
		err := o.Folder.Rename(name, into.Folder, target, replace)
		if err == nil && at != "" && !o.rights(at).Has(need) {
			o.w.t.Errorf("something was moved to %s, which takes %s; %v", at, need, o.grants)
		}
		return err
	}, check)
	if err == nil && anchored {
		o.w.t.Errorf("what a grant names was moved; %v", o.grants)
	}
	if err == nil && taken && !replace {
		o.w.t.Errorf("a rename that must not replace did")
	}
	return err
}

func (o *observed) Link(name string, to store.Folder, target string) error {
	into := to.(*observed)
	return into.deed("linking", target, func() error {
		source := o.at(o.Folder, name)
		err := o.Folder.(store.Linker).Link(name, into.Folder, target)
		if err == nil && source != "" && !o.rights(source).Has(keep.Download|keep.Overwrite) {
			o.w.t.Errorf("%s got a second name; %v", source, o.grants)
		}
		return err
	}, always(keep.Link))
}
func (o *observed) Symlink(text, name string) error {
	return o.deed("making a link", name, func() error { return o.Folder.(store.Linker).Symlink(text, name) }, always(keep.Link))
}
func (o *observed) Readlink(name string) (string, error) {
	return o.Folder.(store.Linker).Readlink(name)
}

// Random trees, grants and quotas, random deeds of four sessions of two accounts whose
// trees overlap: nothing happens that the reference refuses, and the books equal the disk.
func TestNothingHappensThatASlowReferenceRefuses(t *testing.T) {
	rounds := 12
	if testing.Short() {
		rounds = 2
	}
	seed := uint64(time.Now().UnixNano())
	t.Log("seed", seed)
	total := 0
	for round := range rounds {
		total += someRound(t, rand.New(rand.NewPCG(seed, uint64(round))))
		if t.Failed() {
			return
		}
	}
	assert.Greater(t, total, rounds*20, "deeds")
}

var someNames = []string{"a", "b", "c", "in"}

func somePath(r *rand.Rand) string {
	at := "/"
	for range 1 + r.IntN(3) {
		at = path.Join(at, someNames[r.IntN(len(someNames))])
	}
	return at
}

func someRound(t *testing.T, r *rand.Rand) int {
	dir := t.TempDir()
	files := filepath.Join(dir, "files")
	for range 6 {
		require.NoError(t, os.MkdirAll(filepath.Join(files, somePath(r)), 0o750))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(files, "a"), 0o750))
	db, err := records.Open(t.Context(), filepath.Join(dir, "data"))
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: files}))
	ledger := quota.Open(db, kinds.New("", nil).Look, slog.New(slog.DiscardHandler), nil)
	defer ledger.Close()
	places := []keep.Place{{Store: "files", Folder: "a", Quota: keep.Quota{Bytes: 4000, Files: 40}}, {Store: "files", Folder: "a/b", Quota: keep.Quota{Bytes: 2500}}, {Store: "files", Folder: "in", Quota: keep.Quota{Bytes: 3000}}}
	limits := map[quota.Spot]keep.Quota{}
	for _, p := range places[:r.IntN(len(places)+1)] {
		limits[quota.Spot{Store: p.Store, Path: p.Folder}] = p.Quota
	}
	require.NoError(t, ledger.Arrange(t.Context(), limits))
	w := &witness{t: t, files: files}
	var moves tree.Moves
	var sessions sync.WaitGroup
	var work []func()
	for n, home := range []string{"/", "/a"} {
		grants := []keep.Grant{{Path: "/", Rights: keep.Full}}
		for range 1 + r.IntN(3) {
			g := keep.Grant{Path: somePath(r), Rights: keep.Rights(r.IntN(int(keep.Full) + 1))}
			if r.IntN(3) == 0 {
				g.Rights = 0
			}
			grants = append(grants, g)
		}
		account := &keep.Account{Name: fmt.Sprint("crew", n), State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: path.Join(".", home)}}, Grants: grants}
		for range 2 {
			moving, own := new(bool), new([]fs.FileInfo)
			open := func(s keep.Store, folder string) (store.Folder, int, error) {
				f, made, err := kinds.New("", nil).Open(s, folder)
				return &observed{f, w, f, grants, moving, own}, made, err
			}
			house := tree.House{Stores: []keep.Store{{Name: "files", Folder: files}}, Ledger: ledger, Trail: &ledgerOfRecords{}, Moves: &moves, Open: open}
			opened, err := tree.Open(tree.Who{Account: account.Name}, inForce(t, account), house, unwatched{})
			require.NoError(t, err)
			random := rand.New(rand.NewPCG(r.Uint64(), r.Uint64()))
			work = append(work, func() {
				defer opened.Close()
				for range 250 {
					somethingIn(opened, random, moving)
				}
			})
		}
	}
	for _, session := range work {
		sessions.Go(session)
	}
	sessions.Wait()
	for _, use := range ledger.Uses() {
		d, err := ledger.Recount(quota.Spot{Store: use.Store, Path: use.Folder})
		require.NoError(t, err)
		assert.False(t, d.Differs(), "%s: %s", use.Folder, d)
		if use.Quota.Bytes > 0 {
			assert.LessOrEqual(t, d.BytesNow, int64(use.Quota.Bytes))
		}
	}
	return w.deeds
}

// somethingIn does one random thing, which may well be refused.
func somethingIn(tr *tree.Tree, r *rand.Rand, moving *bool) {
	at, to := somePath(r), somePath(r)
	switch r.IntN(13) {
	case 0, 1, 2:
		f, err := tr.Open(at, tree.OpenMode{Write: true, Read: r.IntN(4) == 0, Create: r.IntN(4) > 0, Exclusive: r.IntN(4) == 0, Truncate: r.IntN(2) == 0, Append: r.IntN(4) == 0})
		if err == nil {
			f.WriteAt(make([]byte, r.IntN(900)), r.Int64N(500))
			f.Close()
		}
	case 3:
		if f, err := tr.Open(at, tree.OpenMode{Read: true}); err == nil {
			f.Close()
		}
	case 4, 5:
		tr.Mkdir(at, nil)
	case 6:
		tr.Rmdir(at)
	case 7:
		tr.Remove(at)
	case 8, 9:
		*moving = true
		tr.Rename(at, to, r.IntN(2) == 0)
		*moving = false
	case 10:
		tr.Symlink([]string{to, path.Base(to), "../" + path.Base(to), "."}[r.IntN(4)], at)
	case 11:
		if r.IntN(2) == 0 {
			tr.Hardlink(at, to)
		} else {
			tr.Resize(at, r.Int64N(1500))
		}
	case 12:
		tr.Touch(at, time.Now(), time.Now(), nil)
		if _, err := list(tr, to); err != nil {
			var fault *keep.Fault
			if !errors.As(err, &fault) {
				panic(err)
			}
		}
	}
}
