package bucket

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/whole"
)

// folder is a prefix of keys: "" or with a slash at its end.
type folder struct {
	b  *Bucket
	at string
}

// MovesByCopy says that a move is a copy in the bucket.
func (f *folder) MovesByCopy() {}

func (f *folder) Close() error                       { return nil }
func (f *folder) Duplicate() (store.Folder, error)   { return f, nil }
func (b *Bucket) identity(key string) store.Identity { return store.Identity{Store: b.name, Path: key} }
func (f *folder) folderFacts(name, key string) store.Facts {
	return store.Facts{Named: name, Bits: fs.ModeDir | store.FolderMode, Modified: time.Unix(0, 0), ID: f.b.identity(key)}
}

func (b *Bucket) fileFacts(name string, o Object) store.Facts {
	facts := store.Facts{Named: name, Bytes: o.Size, Bits: store.FileMode, Modified: o.Modified, ID: b.identity(o.Key), Tag: strings.Trim(o.Tag, `"`)}
	if !o.Kept.Modified.IsZero() {
		facts.Modified = o.Kept.Modified
	}
	if o.Kept.Mode != 0 {
		facts.Bits = o.Kept.Mode.Perm()
	}
	return facts
}

func (f *folder) Lookup(name string) (fs.FileInfo, error) {
	if name == "." {
		return f.folderFacts(path.Base("/"+f.at), f.at), nil
	}
	key, err := f.key("lookup", name)
	if err != nil {
		return nil, err
	}
	if open := f.b.files.Facts(key); open != nil {
		return open, nil
	}
	o, isFolder, err := f.b.there(key)
	switch {
	case err != nil:
		if errors.Is(err, fs.ErrNotExist) {
			f.b.absent.add(key)
		}
		return nil, named("lookup", name, err)
	case isFolder:
		return f.markerFacts(name, key)
	}
	return f.b.fileFacts(name, o), nil
}

// markerFacts are a folder's, with the times and the mode that its mark has.
func (f *folder) markerFacts(name, key string) (fs.FileInfo, error) {
	facts := f.folderFacts(name, key)
	ctx, cancel := f.b.asking()
	defer cancel()
	o, err := f.b.d.Head(ctx, key+"/")
	if errors.Is(err, fs.ErrNotExist) {
		return facts, nil
	}
	if err != nil {
		return nil, f.b.fault(err)
	}
	if facts.Modified = o.Modified; !o.Kept.Modified.IsZero() {
		facts.Modified = o.Kept.Modified
	}
	if o.Kept.Mode != 0 {
		facts.Bits = fs.ModeDir | o.Kept.Mode.Perm()
	}
	return facts, nil
}

// named gives a plain error the name that it is about.
func named(op, name string, err error) error {
	for _, plain := range []error{fs.ErrNotExist, fs.ErrExist, syscall.ENOSPC} {
		if err == plain {
			return wrong(op, name, plain)
		}
	}
	return err
}

func (f *folder) Enter(name string) (store.Folder, error) {
	if err := store.Single("enter", name); err != nil {
		return nil, err
	}
	return f.Cross(name)
}

func (f *folder) Cross(rel string) (store.Folder, error) {
	name := path.Base(rel)
	if path.Clean("/"+rel) != "/"+rel {
		return nil, wrong("cross", name, fs.ErrInvalid)
	}
	key, err := (&folder{f.b, f.at + strings.TrimSuffix(rel, name)}).key("cross", name)
	if err != nil {
		return nil, err
	}
	is, err := f.b.isFolder(key + "/")
	if err != nil {
		return nil, err
	}
	if is {
		return &folder{f.b, key + "/"}, nil
	}
	ctx, cancel := f.b.asking()
	defer cancel()
	if _, err := f.b.d.Head(ctx, key); err == nil {
		return nil, wrong("enter", name, syscall.ENOTDIR)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, f.b.fault(err)
	}
	return nil, wrong("enter", name, fs.ErrNotExist)
}

func (f *folder) Mkdir(name string, mode fs.FileMode) error {
	key, err := f.key("mkdir", name)
	if err != nil {
		return err
	}
	defer f.b.names.hold(key, "")()
	if err := f.b.free("mkdir", name, key); err != nil {
		return err
	}
	ctx, cancel := f.b.writing()
	defer cancel()
	kept := Kept{}
	if mode.Perm() != store.FolderMode {
		kept.Mode = mode.Perm()
	}
	return f.b.putMarker(ctx, key+"/", kept)
}

func (f *folder) Remove(name string, isFolder bool) error {
	key, err := f.key("remove", name)
	if err != nil {
		return err
	}
	defer f.b.names.hold(key, "")()
	if err := f.b.quiet(key); err != nil {
		return err
	}
	_, is, err := f.b.there(key)
	switch {
	case err != nil:
		return named("remove", name, err)
	case is && !isFolder:
		return wrong("remove", name, syscall.EISDIR)
	case !is && isFolder:
		return wrong("remove", name, syscall.ENOTDIR)
	}
	ctx, cancel := f.b.writing()
	defer cancel()
	if !is {
		if err := f.b.mark(f.at); err != nil { // or the folder would go with its last file
			return err
		}
		return f.b.fault(f.b.d.Delete(ctx, key))
	}
	f.b.gone(key + "/")
	page, err := f.b.d.List(ctx, key+"/", true, "", 2)
	if err != nil {
		return f.b.fault(err)
	}
	if len(page.Objects) > 1 || len(page.Objects) == 1 && page.Objects[0].Key != key+"/" {
		return wrong("remove", name, syscall.ENOTEMPTY)
	}
	if err := f.b.mark(f.at); err != nil {
		return err
	}
	return f.b.fault(f.b.d.Delete(ctx, key+"/"))
}

func (f *folder) SetTimes(name string, _, modified time.Time) error {
	if modified.IsZero() {
		return nil // when it was read last is kept nowhere
	}
	return f.keep("set times", name, func(k *Kept) { k.Modified = modified })
}

func (f *folder) SetMode(name string, mode fs.FileMode) error {
	return f.keep("set mode", name, func(k *Kept) { k.Mode = mode.Perm() })
}

// keep changes what is kept with an object, or a folder's mark.
func (f *folder) keep(op, name string, change func(*Kept)) error {
	if name == "." {
		if f.at == f.b.prefix {
			return nil // nothing marks the store's own folder
		}
		up, own := path.Split(strings.TrimSuffix(f.at, "/"))
		return (&folder{f.b, up}).keep(op, own, change)
	}
	key, err := f.key(op, name)
	if err != nil {
		return err
	}
	defer f.b.names.hold(key, "")()
	if err := f.b.quiet(key); err != nil && f.b.files.Facts(key) != nil {
		return err
	}
	o, isFolder, err := f.b.there(key)
	if err != nil {
		return named(op, name, err)
	}
	ctx, cancel := f.b.writing()
	defer cancel()
	if isFolder {
		o, err = f.b.d.Head(ctx, key+"/")
		if errors.Is(err, fs.ErrNotExist) {
			kept := Kept{}
			change(&kept)
			return f.b.putMarker(ctx, key+"/", kept)
		}
		if err != nil {
			return f.b.fault(err)
		}
	}
	kept := o.Kept
	change(&kept)
	return f.b.fault(f.b.d.Keep(ctx, o, kept))
}

// Open opens a file.
func (f *folder) Open(name string, flag int, mode fs.FileMode) (store.File, error) {
	key, err := f.key("open", name)
	if err != nil {
		return nil, err
	}
	writes := flag&(os.O_WRONLY|os.O_RDWR) != 0
	if !writes {
		o, isFolder, err := f.b.there(key)
		if err != nil {
			return nil, named("open", name, err)
		}
		if isFolder {
			return nil, wrong("open", name, syscall.EISDIR)
		}
		return nilOr(f.b.files.Open(key, flag, f.b.place(name, o, false)))
	}
	defer f.b.names.hold(key, "")()
	if f.b.files.Facts(key) != nil {
		return nilOr(f.b.files.Open(key, flag, f.b.place(name, Object{Key: key}, true)))
	}
	var o Object
	var isFolder bool
	fresh := flag&os.O_EXCL != 0 && f.b.absent.knows(key) // the look before says so, and nothing came since
	if !fresh {
		o, isFolder, err = f.b.there(key)
		fresh = errors.Is(err, fs.ErrNotExist)
	}
	switch {
	case fresh && flag&os.O_CREATE == 0, err != nil && !fresh:
		return nil, named("open", name, err)
	case !fresh && flag&os.O_EXCL != 0:
		return nil, wrong("open", name, fs.ErrExist)
	case isFolder:
		return nil, wrong("open", name, syscall.EISDIR)
	}
	if o.Key = key; fresh && mode.Perm() != store.FileMode {
		o.Kept.Mode = mode.Perm()
	}
	return nilOr(f.b.files.Open(key, flag, f.b.place(name, o, fresh)))
}

func nilOr(f *whole.File, err error) (store.File, error) {
	if err != nil {
		return nil, err
	}
	return f, nil
}

// pageSize is how many keys are asked for at once, the most that is usual.
const pageSize = 1000

func (f *folder) Entries() (store.Entries, error) {
	is, err := f.b.isFolder(f.at)
	if err == nil && !is {
		err = wrong("list", path.Base("/"+f.at), fs.ErrNotExist)
	}
	if err != nil {
		return nil, err
	}
	e := &entries{f: f}
	e.ask("")
	return e, nil
}

// entries reads a folder page by page: while one is used the next one is fetched.
type entries struct {
	f    *folder
	next chan answer // of the page that is being fetched; nil after the last
	left []fs.FileInfo
}

type answer struct {
	page Page
	err  error
}

func (e *entries) ask(after string) {
	next := make(chan answer, 1)
	e.next = next
	e.f.b.work.Go(func() {
		ctx, cancel := e.f.b.asking()
		defer cancel()
		page, err := e.f.b.d.List(ctx, e.f.at, false, after, pageSize)
		next <- answer{page, err}
	})
}

// typicalEntry is about what an entry takes in a buffer, bytes.
const typicalEntry = 40

func (e *entries) Next(buffer int) ([]fs.FileInfo, error) {
	for len(e.left) == 0 {
		if e.next == nil {
			return nil, io.EOF
		}
		got := <-e.next
		e.next = nil
		if got.err != nil {
			return nil, e.f.b.fault(got.err)
		}
		if got.page.Next != "" {
			e.ask(got.page.Next)
		}
		e.left = e.f.facts(got.page)
	}
	n := min(len(e.left), max(1, buffer/typicalEntry))
	found := e.left[:n:n]
	e.left = e.left[n:]
	return found, nil
}

func (e *entries) Close() error { return nil }

// facts are those of a page of this folder, in the order of the names.
func (f *folder) facts(page Page) []fs.FileInfo {
	found := make([]fs.FileInfo, 0, len(page.Objects)+len(page.Prefixes))
	objects, prefixes := page.Objects, page.Prefixes
	for len(objects)+len(prefixes) > 0 {
		if len(prefixes) == 0 || len(objects) > 0 && objects[0].Key < prefixes[0] {
			o := objects[0]
			objects = objects[1:]
			if name := strings.TrimPrefix(o.Key, f.at); plain(name) {
				found = append(found, f.b.fileFacts(name, o))
			}
			continue
		}
		name := strings.TrimSuffix(strings.TrimPrefix(prefixes[0], f.at), "/")
		prefixes = prefixes[1:]
		if plain(name) {
			found = append(found, f.folderFacts(name, f.at+name))
		}
	}
	return found
}

// plain reports whether a part of a key can be a name: other programs put into buckets what is none.
func plain(name string) bool { return store.Single("list", name) == nil }
