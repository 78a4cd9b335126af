package picture

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

const (
	// maxMemory and maxSeconds are what one drawing may take: bytes, and seconds of a processor.
	maxMemory, maxSeconds = 1 << 30, 20
	// maxTime is how long one may take in all.
	maxTime = 30 * time.Second
	// maxKept bounds what is kept of all that was drawn, bytes.
	maxKept = 512 << 20
	// maxDrawn bounds one drawing, bytes.
	maxDrawn = 4 << 20
)

// ErrNone says that no picture can be made of something.
var ErrNone = errors.New("no picture can be made of it")

// Sides are the longest sides of what is drawn, pixels: for a list, and for a look.
var Sides = []int{320, maxSide}

// Artist has pictures drawn and keeps them.
type Artist struct {
	dir     string // where they are kept
	program string // what draws

	places chan struct{} // for those who draw
	mu     sync.Mutex
	kept   int64 // bytes; -1: not counted yet
}

// readPrefix begins the names of pictures that are about to be drawn.
const readPrefix = "read-"

// New keeps pictures in a folder; the program is this one.
func New(dir, program string) *Artist {
	left, _ := filepath.Glob(filepath.Join(dir, readPrefix+"*")) // by a process that was killed
	for _, one := range left {
		os.Remove(one)
	}
	return &Artist{dir: dir, program: program, places: make(chan struct{}, max(1, runtime.NumCPU()/2)), kept: -1}
}

// Draws reports whether a file may be a picture that can be drawn, by its name and size in bytes.
func Draws(name string, size int64) bool {
	return size > 0 && size <= maxBytes && slices.Contains([]string{".jpg", ".jpeg", ".png", ".gif", ".webp", ".tif", ".tiff", ".bmp"}, strings.ToLower(filepath.Ext(name)))
}

func (a *Artist) file(key string, side int) string {
	sum := sha256.Sum256([]byte(strconv.Itoa(side) + "\x00" + key))
	name := hex.EncodeToString(sum[:])
	return filepath.Join(a.dir, name[:2], name+".jpg")
}

// Drawn gives what is kept under a key, [fs.ErrNotExist] when nothing is; [ErrNone] when it is known that
// nothing can be.
func (a *Artist) Drawn(key string, side int) ([]byte, error) {
	text, err := os.ReadFile(a.file(key, side))
	if err == nil && len(text) == 0 {
		return nil, ErrNone
	}
	return text, err
}

// Draw makes a picture of what read writes, and keeps it under a key. It reads first and waits for a place then, so that who
// is read slowly keeps nobody else waiting. An error of read is returned as it is.
func (a *Artist) Draw(ctx context.Context, key string, side int, read func(io.Writer) error) ([]byte, error) {
	if err := os.MkdirAll(a.dir, 0o700); err != nil {
		return nil, err
	}
	in, err := os.CreateTemp(a.dir, readPrefix)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	defer os.Remove(in.Name())
	if err := read(in); err != nil {
		return nil, err
	}
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	select {
	case a.places <- struct{}{}:
		defer func() { <-a.places }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if text, err := a.Drawn(key, side); !errors.Is(err, fs.ErrNotExist) { // somebody was quicker
		return text, err
	}
	timed, cancel := context.WithTimeout(ctx, maxTime)
	defer cancel()
	child := exec.CommandContext(timed, a.program, Word, strconv.Itoa(side))
	child.Env = []string{"GOMAXPROCS=1"}
	child.Dir = os.TempDir()
	child.WaitDelay = time.Second
	drawn := &bounded{left: maxDrawn}
	child.Stdin, child.Stdout = in, drawn
	ended := child.Run()
	var failed *exec.ExitError
	switch {
	case ended == nil && drawn.Len() > 0:
		return drawn.Bytes(), a.keep(key, side, drawn.Bytes())
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case ended != nil && !errors.As(ended, &failed) && timed.Err() == nil && !errors.Is(ended, io.ErrShortWrite):
		return nil, ended // there was no process
	}
	return nil, cmp.Or(a.keep(key, side, nil), ErrNone)
}

// bounded takes so much and no more.
type bounded struct {
	bytes.Buffer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left < 0 {
		return 0, io.ErrShortWrite
	}
	return b.Buffer.Write(p)
}

// keep keeps what was drawn; of an empty one it is known that nothing can be drawn. Of what is kept the
// oldest goes when it is too much.
func (a *Artist) keep(key string, side int, text []byte) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	at := a.file(key, side)
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	temporary := at + ".new"
	if err := errors.Join(os.WriteFile(temporary, text, 0o600), os.Rename(temporary, at)); err != nil {
		return errors.Join(err, os.Remove(temporary))
	}
	if a.kept >= 0 {
		a.kept += int64(len(text)) + overhead
	}
	if a.kept < 0 || a.kept > maxKept {
		a.thin()
	}
	return nil
}

// overhead is what a file takes besides its bytes, about.
const overhead = 4 << 10

// thin counts what is kept, and drops the oldest until there is room.
func (a *Artist) thin() {
	type one struct {
		at   string
		size int64
		when time.Time
	}
	var all []one
	a.kept = 0
	filepath.WalkDir(a.dir, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return nil
		}
		if info, err := entry.Info(); err == nil {
			all = append(all, one{at, info.Size() + overhead, info.ModTime()})
			a.kept += info.Size() + overhead
		}
		return nil
	})
	slices.SortFunc(all, func(x, y one) int { return x.when.Compare(y.when) })
	for _, o := range all {
		if a.kept <= maxKept*3/4 {
			break
		}
		if os.Remove(o.at) == nil {
			a.kept -= o.size
		}
	}
}
