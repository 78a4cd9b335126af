package scp

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// maxMatches bounds what wildcards may stand for.
const maxMatches = 10_000

// send sends what the client asked for, name by name.
func (s *Session) send(c *Command) error {
	if fine, err := s.answered(); err != nil || !fine {
		return errOver
	}
	for _, name := range c.Names {
		found, err := s.match(name)
		if err != nil {
			if err := s.fault(name.Text, err); err != nil {
				return err
			}
			continue
		}
		for _, at := range found {
			if err := s.one(c, at, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// one sends a file, or a folder where those are asked for. within are the folders that it lies in, so that links lead round in no circle.
func (s *Session) one(c *Command, at string, within []tree.Place) error {
	info, err := s.Tree.Stat(at)
	if err == nil {
		err = s.Tree.MayUse(keep.Downloading, at)
	}
	switch {
	case err != nil:
	case strings.ContainsAny(keep.Unspell(path.Base(at)), "\r\n"):
		err = keep.Refuse(keep.BadName, "a name with a line break can't be said here")
	case info.IsDir() && !c.Recursive:
		err = keep.Refuse(keep.IsAFolder, "that is a folder: give -r")
	case info.IsDir():
		return s.folderOut(c, at, info, within)
	default:
		return s.fileOut(c, at)
	}
	return s.fault(at, err)
}

// announce says what comes, after its times where those are asked for; false where the client wants none of it.
func (s *Session) announce(c *Command, kind byte, info fs.FileInfo, size int64, name string) (bool, error) {
	if c.Times {
		at := max(info.ModTime().Unix(), 0)
		if _, err := fmt.Fprintf(s.Line, "T%d 0 %d 0\n", at, at); err != nil {
			return false, errOver
		}
		if fine, err := s.answered(); err != nil || !fine {
			return false, err
		}
	}
	if _, err := fmt.Fprintf(s.Line, "%c%04o %d %s\n", kind, info.Mode().Perm(), size, name); err != nil {
		return false, errOver
	}
	return s.answered()
}

func (s *Session) fileOut(c *Command, at string) error {
	f, err := s.Tree.Open(at, tree.OpenMode{Read: true})
	if err != nil {
		return s.fault(at, err)
	}
	s.Opened(+1)
	defer s.Opened(-1)
	defer context.AfterFunc(f.Ending(), s.Stop)()
	info, err := f.Stat()
	if err != nil {
		f.Abort(err)
		return s.fault(at, err)
	}
	fine, err := s.announce(c, 'C', info, info.Size(), keep.Unspell(path.Base(at)))
	if err != nil || !fine {
		f.Abort(keep.Refuse(keep.ClientAborted, "the client did not want it"))
		return err
	}
	out := &counted{Writer: s.Line}
	failed := f.SendTo(out, 0, info.Size())
	if stopped := f.Ended(); stopped != nil {
		failed = stopped
	}
	if failed == nil && out.n < info.Size() {
		failed = keep.Refuse(keep.Failure, "the file became shorter while it was sent")
	}
	switch {
	case out.err != nil:
		f.Abort(s.why(f))
		return errOver
	case failed != nil: // the client was told of so many bytes, and waits for them
		f.Abort(failed)
		if _, err := io.CopyN(s.Line, zeros{}, info.Size()-out.n); err != nil {
			return errOver
		}
		if err := s.fault(at, failed); err != nil {
			return err
		}
		_, err := s.answered()
		return err
	}
	if err := s.ok(); err != nil {
		f.Abort(s.why(f))
		return err
	}
	if fine, err = s.answered(); err != nil || !fine {
		f.Abort(keep.Refuse(keep.ClientAborted, "the client could not keep it"))
		return err
	}
	if err := s.Work(f.Close); err != nil {
		return s.fault(at, err)
	}
	return nil
}

// counted notes how much was taken, and whether the client is gone.
type counted struct {
	io.Writer
	n   int64
	err error
}

func (c *counted) Write(p []byte) (n int, err error) {
	n, err = c.Writer.Write(p)
	c.n += int64(n)
	if err != nil {
		c.err = err
	}
	return n, err
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

func (s *Session) folderOut(c *Command, at string, info fs.FileInfo, within []tree.Place) error {
	place, err := s.Tree.Place(at, true)
	if err == nil && slices.Contains(within, place) {
		err = keep.Refuse(keep.BadRequest, "the link leads back to a folder that it lies in")
	}
	if err == nil && len(within) >= maxDepth {
		err = keep.Refuse(keep.BadRequest, "folders lie too deep in one another")
	}
	var l *tree.Listing
	if err == nil {
		l, err = s.Tree.ReadFolder(at)
	}
	if err != nil {
		return s.fault(at, err)
	}
	defer l.Close()
	name := keep.Unspell(path.Base(at))
	if at == "/" {
		name = "."
	}
	fine, err := s.announce(c, 'D', info, 0, name)
	if err != nil || !fine {
		return err
	}
	within = append(within[:len(within):len(within)], place)
	err = s.each(l, func(one string) error { return s.one(c, path.Join(at, one), within) })
	if err == errOver {
		return err
	}
	if err != nil {
		if err := s.fault(at, err); err != nil {
			return err
		}
	}
	if _, err := io.WriteString(s.Line, "E\n"); err != nil {
		return errOver
	}
	_, err = s.answered()
	return err
}

// each does something with each name of a folder, a few of which it holds.
func (s *Session) each(l *tree.Listing, do func(name string) error) error {
	for {
		var some []fs.FileInfo
		err := s.Work(func() (err error) {
			some, err = l.Next(store.SmallRead)
			return err
		})
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for _, info := range some {
			if err := do(info.Name()); err != nil {
				return err
			}
		}
	}
}

// names are those in a folder that fit, in order.
func (s *Session) names(at string, fits func(name string) bool) (found []string, err error) {
	l, err := s.Tree.ReadFolder(at)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	err = s.each(l, func(name string) error {
		if !fits(name) {
			return nil
		}
		if found = append(found, name); len(found) > maxMatches {
			return errMany
		}
		return nil
	})
	slices.Sort(found)
	return found, err
}

var errMany = keep.Refuse(keep.BadRequest, fmt.Sprintf("the wildcards fit more than %d names", maxMatches))

// match is what a name stands for: itself, or all that its wildcards fit, part by part.
func (s *Session) match(name Name) ([]string, error) {
	if name.Pattern == "" {
		at, err := clean(name.Text)
		return []string{at}, err
	}
	found, wild := []string{"/"}, false
	for part := range strings.SplitSeq(name.Pattern, "/") {
		if part == "" || part == "." {
			continue
		}
		if _, err := path.Match(part, ""); err != nil {
			return nil, keep.Refuse(keep.BadRequest, "the wildcards are not closed")
		}
		var next []string
		for _, in := range found {
			if part == ".." || !strings.ContainsAny(part, "*?[") {
				at, err := clean(in + "/" + unescaped(part))
				if err != nil {
					return nil, err
				}
				if _, err := s.Tree.Lstat(at); err == nil || !wild {
					next = append(next, at)
				}
				continue
			}
			wild = true
			names, err := s.names(in, func(one string) bool {
				fits, _ := path.Match(part, one)
				return fits && (one[0] != '.' || part[0] == '.')
			})
			if err != nil {
				if len(found) == 1 {
					return nil, err
				}
				continue // one of several that is no folder
			}
			for _, one := range names {
				next = append(next, path.Join(in, one))
			}
			if len(next) > maxMatches {
				return nil, errMany
			}
		}
		found = next
	}
	if len(found) == 0 {
		return nil, keep.Refuse(keep.NotFound, "nothing fits")
	}
	return found, nil
}

func unescaped(part string) string {
	var b strings.Builder
	for i := 0; i < len(part); i++ {
		if part[i] == '\\' && i+1 < len(part) {
			i++
		}
		b.WriteByte(part[i])
	}
	return b.String()
}
