package backup

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"
)

// format names what a manifest tells of. A change of it gets a new value.
const format = "urbankeep backup 1"

// manifestName and database are entries that every backup has.
const (
	manifestName = "manifest.json"
	database     = "urbankeep.db"
)

// parts are what is taken from the data folder beside the database: files, and folders
// with all that is in them. What can prove the trail comes before the trail itself, so
// that no checkpoint is of a record that is not there.
var parts = []string{"audit.key", "audit.checkpoints", "hostkeys", "storekeys", "tls", "archive"}

// Manifest says what is in a backup.
type Manifest struct {
	Format string    `json:"format"`
	Made   time.Time `json:"made"`
	Folder string    `json:"folder"` // the data folder it was made of
	Files  []File    `json:"files"`
}

// File is one file of a backup.
type File struct {
	Name   string `json:"name"` // below the data folder, with slashes
	Size   int64  `json:"size"` // bytes
	SHA256 string `json:"sha256"`
}

// Records gives a consistent copy of the database while it is used.
type Records interface {
	Snapshot(ctx context.Context, file string) error
}

// Write writes a backup of a data folder whose service runs.
func Write(ctx context.Context, w io.Writer, dir string, db Records) (m Manifest, err error) {
	scratch, err := os.MkdirTemp(dir, "backup-")
	if err != nil {
		return m, fmt.Errorf("make a backup: %w", err)
	}
	defer os.RemoveAll(scratch)
	// The records come first: archives and checkpoints that are made meanwhile are then more than they know of, never less.
	snapshot := filepath.Join(scratch, database)
	if err := db.Snapshot(ctx, snapshot); err != nil {
		return m, fmt.Errorf("make a backup: copy the records: %w", err)
	}
	packed := gzip.NewWriter(w)
	out := &writer{tar: tar.NewWriter(packed), manifest: Manifest{Format: format, Made: time.Now().UTC(), Folder: dir}}
	for _, part := range parts {
		err := filepath.WalkDir(filepath.Join(dir, part), func(name string, entry fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) || err == nil && !entry.Type().IsRegular() {
				return nil
			}
			if err != nil {
				return err
			}
			below, err := filepath.Rel(dir, name)
			if err != nil {
				return err
			}
			return out.add(ctx, filepath.ToSlash(below), name)
		})
		if err != nil {
			return m, fmt.Errorf("make a backup: %w", err)
		}
	}
	if err := out.add(ctx, database, snapshot); err != nil {
		return m, fmt.Errorf("make a backup: %w", err)
	}
	text, err := json.MarshalIndent(out.manifest, "", "  ")
	if err != nil {
		return m, err
	}
	if err := out.tar.WriteHeader(&tar.Header{Name: manifestName, Mode: 0o600, Size: int64(len(text)), ModTime: out.manifest.Made}); err != nil {
		return m, err
	}
	_, err = out.tar.Write(text)
	return out.manifest, errors.Join(err, out.tar.Close(), packed.Close())
}

// Sweep removes what a backup left that was ended in the middle.
func Sweep(dir string) error {
	left, err := filepath.Glob(filepath.Join(dir, "backup-*"))
	for _, one := range left {
		err = errors.Join(err, os.RemoveAll(one))
	}
	return err
}

type writer struct {
	tar      *tar.Writer
	manifest Manifest
}

func (w *writer) add(ctx context.Context, name, file string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	if err := w.tar.WriteHeader(&tar.Header{Name: path.Clean(name), Mode: 0o600, Size: info.Size(), ModTime: info.ModTime(), Format: tar.FormatPAX}); err != nil {
		return err
	}
	sum := sha256.New()
	// A file that grows meanwhile is taken as long as it was.
	n, err := io.Copy(io.MultiWriter(w.tar, sum), io.LimitReader(in, info.Size()))
	if err != nil {
		return err
	}
	w.manifest.Files = append(w.manifest.Files, File{path.Clean(name), n, hexOf(sum)})
	return nil
}

func hexOf(sum hash.Hash) string { return hex.EncodeToString(sum.Sum(nil)) }
