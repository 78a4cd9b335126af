package bucket

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode/utf8"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/files/store/whole"
	"urbankeep/internal/keep"
)

// Bucket is a bucket, or what lies in it below a prefix.
type Bucket struct {
	d       Driver
	name    string // of the store
	prefix  string // "" or with a slash at its end
	refuses string
	memory  *Memory
	scratch func() (*scratch.File, error)
	notes   notes
	log     *slog.Logger
	files   whole.Files
	markers known // folders that have their mark
	folders known // folders that are there
	absent  known // names that nothing has, as who looked last was told
	names   locks

	ctx  context.Context // ends with the bucket
	stop context.CancelFunc
	work sync.WaitGroup
}

// Setup is what a bucket is made of.
type Setup struct {
	Driver  Driver
	Store   string // the store's name
	Prefix  string
	Refuses string // characters that its keys can't have
	Memory  *Memory
	Scratch func() (*scratch.File, error)
	Notes   string // folder in which it is noted what must be cleaned up if the process ends
	Log     *slog.Logger
}

// New gives a bucket. What an end of the process has left in it is cleaned up meanwhile.
func New(s Setup) *Bucket {
	b := &Bucket{d: s.Driver, name: s.Store, prefix: s.Prefix, refuses: s.Refuses, memory: s.Memory, scratch: s.Scratch, notes: notes{s.Notes, s.Store}, log: s.Log, markers: newKnown(knownFor), folders: newKnown(knownFor), absent: newKnown(absentFor), names: locks{held: map[string]*lock{}}}
	if b.prefix != "" {
		b.prefix += "/"
	}
	b.ctx, b.stop = context.WithCancel(context.Background())
	left := b.notes.all()
	b.work.Go(func() { b.cleanUp(left) })
	return b
}

// Close ends what it does by itself.
func (b *Bucket) Close() {
	b.stop()
	b.work.Wait()
}

// Root is the store's own folder.
func (b *Bucket) Root() store.Folder { return &folder{b, b.prefix} }

// How long one call may take: one that asks, one that writes a part or copies.
const (
	askPatience   = 20 * time.Second
	writePatience = 5 * time.Minute
)

func (b *Bucket) asking() (context.Context, context.CancelFunc) {
	return context.WithTimeout(b.ctx, askPatience)
}

func (b *Bucket) writing() (context.Context, context.CancelFunc) {
	return context.WithTimeout(b.ctx, writePatience)
}

// ErrFull says that a bucket takes no more.
var ErrFull = syscall.ENOSPC

// fault is an error of a bucket as sessions are told of it.
func (b *Bucket) fault(err error) error {
	if fault := (*keep.Fault)(nil); err == nil || errors.As(err, &fault) {
		return err
	}
	for _, known := range []error{fs.ErrNotExist, fs.ErrExist, fs.ErrInvalid, syscall.ENOSPC, syscall.ENOTEMPTY, syscall.EISDIR, syscall.ENOTDIR, syscall.ENAMETOOLONG, syscall.EXDEV} {
		if errors.Is(err, known) {
			return err
		}
	}
	if errors.Is(err, ErrChanged) {
		return &keep.Fault{Reason: keep.Failure, Say: "the file was replaced while it was being read: read it again", Cause: err}
	}
	return &keep.Fault{Reason: keep.StoreAway, Say: "the store " + b.name + " did not do it: try again, and tell the administrator if it goes on", Cause: fmt.Errorf("store %s: %w", b.name, err)}
}

func wrong(op, name string, err error) error { return &fs.PathError{Op: op, Path: name, Err: err} }

// maxKey is the longest key, bytes.
const maxKey = 1024

var errUTF8 = keep.Refuse(keep.BadName, "this store takes names in UTF-8 only")

// key gives the key of a name in a folder.
func (f *folder) key(op, name string) (string, error) {
	if err := store.Single(op, name); err != nil {
		return "", err
	}
	key := f.at + name
	switch {
	case !utf8.ValidString(name):
		return "", errUTF8
	case strings.ContainsAny(name, f.b.refuses):
		return "", keep.Refuse(keep.BadName, "this store takes names without "+f.b.refuses+" only")
	case len(key)+1 > maxKey:
		return "", wrong(op, name, syscall.ENAMETOOLONG)
	}
	return key, nil
}

// there tells what is at a key: an object, a folder, or nothing.
func (b *Bucket) there(key string) (o Object, isFolder bool, err error) {
	ctx, cancel := b.asking()
	defer cancel()
	o, err = b.d.Head(ctx, key)
	if !errors.Is(err, fs.ErrNotExist) {
		return o, false, b.fault(err)
	}
	isFolder, err = b.isFolder(key + "/")
	if err == nil && !isFolder {
		err = fs.ErrNotExist
	}
	return o, isFolder, err
}

// isFolder reports whether there is anything with a prefix.
func (b *Bucket) isFolder(prefix string) (bool, error) {
	if prefix == b.prefix || b.markers.knows(prefix) || b.folders.knows(prefix) {
		return true, nil
	}
	ctx, cancel := b.asking()
	defer cancel()
	page, err := b.d.List(ctx, prefix, true, "", 1)
	if err != nil {
		return false, b.fault(err)
	}
	if len(page.Objects) == 0 {
		return false, nil
	}
	b.folders.add(prefix)
	return true, nil
}

// free refuses a key that is taken. The caller has the name.
func (b *Bucket) free(op, name, key string) error {
	if b.files.Facts(key) != nil {
		return wrong(op, name, fs.ErrExist)
	}
	_, _, err := b.there(key)
	switch {
	case err == nil:
		return wrong(op, name, fs.ErrExist)
	case errors.Is(err, fs.ErrNotExist):
		return nil
	}
	return err
}

// errBusy refuses to touch what is being written.
var errBusy = keep.Refuse(keep.InUse, "a file there is being uploaded just now: try again when that has ended")

// quiet refuses a key that is being written, or anything below it.
func (b *Bucket) quiet(key string) error {
	if b.files.Any(func(open any) bool { return open == key || strings.HasPrefix(open.(string), key+"/") }) {
		return errBusy
	}
	return nil
}

// mark sees that a folder is there without anything in it.
func (b *Bucket) mark(prefix string) error {
	if prefix == b.prefix || b.markers.knows(prefix) {
		return nil
	}
	ctx, cancel := b.writing()
	defer cancel()
	if _, err := b.d.Head(ctx, prefix); err == nil {
		b.markers.add(prefix)
		return nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return b.fault(err)
	}
	return b.putMarker(ctx, prefix, Kept{})
}

func (b *Bucket) putMarker(ctx context.Context, prefix string, kept Kept) error {
	if err := b.d.Put(ctx, prefix, strings.NewReader(""), 0, kept); err != nil {
		return b.fault(err)
	}
	b.markers.add(prefix)
	b.absent.drop(strings.TrimSuffix(prefix, "/"))
	return nil
}

// known remembers folders for a while: others than this service may take them away.
type known struct {
	mu   sync.Mutex
	at   map[string]time.Time
	long time.Duration
}

const (
	knownFor  = 30 * time.Second
	absentFor = 2 * time.Second // from a look to what is done upon it
	maxKnown  = 10_000
)

func newKnown(long time.Duration) known { return known{at: map[string]time.Time{}, long: long} }

func (k *known) knows(prefix string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return time.Since(k.at[prefix]) < k.long
}

func (k *known) add(prefix string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.at) >= maxKnown {
		clear(k.at)
	}
	k.at[prefix] = time.Now()
}

// gone lets go of a folder and of all below it.
func (b *Bucket) gone(prefix string) {
	b.markers.forget(prefix)
	b.folders.forget(prefix)
}

func (k *known) drop(key string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.at, key)
}

func (k *known) forget(prefix string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for at := range k.at {
		if strings.HasPrefix(at, prefix) {
			delete(k.at, at)
		}
	}
}

// locks keeps names in order: who changes one has it alone.
type locks struct {
	mu   sync.Mutex
	held map[string]*lock
}

type lock struct {
	mu   sync.Mutex
	held int
}

// hold takes one or two names, in order.
func (l *locks) hold(one, two string) (release func()) {
	if two != "" && two < one {
		one, two = two, one
	}
	first := l.take(one)
	if two == "" || two == one {
		return first
	}
	second := l.take(two)
	return func() { second(); first() }
}

func (l *locks) take(key string) (release func()) {
	l.mu.Lock()
	k := l.held[key]
	if k == nil {
		k = &lock{}
		l.held[key] = k
	}
	k.held++
	l.mu.Unlock()
	k.mu.Lock()
	return func() {
		k.mu.Unlock()
		l.mu.Lock()
		defer l.mu.Unlock()
		if k.held--; k.held == 0 {
			delete(l.held, key)
		}
	}
}
