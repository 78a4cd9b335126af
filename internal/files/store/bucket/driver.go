package bucket

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"time"
)

// Driver is what a bucket can do. Keys are whole: with the prefix of the store.
type Driver interface {
	// Head gives an object; [fs.ErrNotExist] when there is none.
	Head(ctx context.Context, key string) (Object, error)
	// Get reads an object from an offset on, all of it when length is negative; [ErrChanged] when it isn't the one with this tag.
	Get(ctx context.Context, key, tag string, from, length int64) (io.ReadCloser, error)
	// Put writes an object at once.
	Put(ctx context.Context, key string, body io.ReadSeeker, size int64, kept Kept) error
	// Begin begins an object that is sent in parts.
	Begin(ctx context.Context, key string, kept Kept) (Upload, error)
	// Resume gives an upload by its ID, to be aborted.
	Resume(key, id string) Upload
	// Copy copies an object on the store's side.
	Copy(ctx context.Context, from Object, to string) error
	// Keep changes what is kept with an object.
	Keep(ctx context.Context, of Object, kept Kept) error
	Delete(ctx context.Context, key string) error
	// List gives some of the keys with a prefix, in order: all, or those up to the next slash and the prefixes
	// up to there. after is what the page before has said; "" for the first.
	List(ctx context.Context, prefix string, deep bool, after string, most int) (Page, error)
}

// Upload is an object that is sent in parts, which are numbered from 1.
type Upload interface {
	ID() string
	// Part sends a part; one that was sent before is replaced. It may be called from several goroutines at once.
	Part(ctx context.Context, n int, body io.ReadSeeker, size int64) error
	Complete(ctx context.Context) error
	Abort(ctx context.Context) error
}

// Object is one object.
type Object struct {
	Key      string
	Size     int64
	Modified time.Time
	Tag      string // changes with the content
	Kept     Kept   // not in pages
}

// Kept is what is kept with an object; zero values are not set.
type Kept struct {
	Modified time.Time
	Mode     fs.FileMode
}

// Page is a part of a list.
type Page struct {
	Objects  []Object
	Prefixes []string
	Next     string // "" after the last
}

// ErrChanged says that an object has another content by now.
var ErrChanged = errors.New("the object was replaced")
