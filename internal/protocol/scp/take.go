package scp

import (
	"context"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// announced is a file or folder that the client begins.
type announced struct {
	mode fs.FileMode
	size int64
	name string
}

// times are those that a T line gives to what comes next; zero: there was none.
type times struct{ modified, access time.Time }

// take takes what the client sends to a path of the tree.
func (s *Session) take(c *Command) error {
	at, err := clean(c.Names[0].Text)
	if err != nil {
		s.fault(c.Names[0].Text, err)
		return errOver
	}
	err = s.Tree.MayEnter(at)
	if c.Folder && err != nil {
		s.fault(at, err)
		return errOver
	}
	to := target{c, at, err == nil, 0}
	if err := s.ok(); err != nil {
		return err
	}
	return s.into(to)
}

// target is where things come to: a folder, or the name of what comes.
type target struct {
	*Command
	at     string
	folder bool
	depth  int
}

// into takes what comes to a target, until that ends.
func (s *Session) into(to target) error {
	var when times
	for {
		first, err := s.in.ReadByte()
		if err != nil {
			if to.depth == 0 {
				return nil
			}
			return errOver
		}
		line, err := s.line()
		if err != nil {
			return err
		}
		switch first {
		case 1, 2: // something on the client's side
			s.faults++
			if first == 2 {
				return errOver
			}
			continue
		case 'E':
			if to.depth == 0 || line != "" {
				return s.broken("a folder ends that has not begun")
			}
			return s.ok()
		case 'T':
			var ok bool
			if when, ok = readTimes(line); !ok {
				return s.broken("times are not as they must be")
			}
			err = s.ok()
		case 'C', 'D':
			one, ok := readAnnounced(line)
			if !ok {
				return s.broken("a file is announced in another form than C0644 SIZE NAME")
			}
			if first == 'C' {
				err = s.file(to, one, when)
			} else {
				err = s.folder(to, one, when)
			}
			when = times{}
		default:
			return s.broken("a line is none of C, D, E, T")
		}
		if err != nil {
			return err
		}
	}
}

// of is the path of what comes.
func (to target) of(one announced) (string, error) {
	if one.name == "" || one.name == "." || one.name == ".." || strings.Contains(one.name, "/") {
		return "", keep.Refuse(keep.BadName, "a name without slashes is sent here, and not . or ..")
	}
	if !to.folder {
		return to.at, nil
	}
	return clean(to.at + "/" + one.name)
}

// file takes one file.
func (s *Session) file(to target, one announced, when times) error {
	at, err := to.of(one)
	if err == nil {
		err = s.Tree.MayUse(keep.Uploading, at)
	}
	var f *tree.File
	if err == nil {
		f, err = s.Tree.Open(at, tree.OpenMode{Write: true, Create: true, Truncate: true, Mode: one.mode, Total: one.size})
	}
	if err != nil {
		return s.fault(one.name, err) // the client then sends none of it
	}
	s.Opened(+1)
	defer s.Opened(-1)
	defer context.AfterFunc(f.Ending(), s.Stop)()
	if err := s.ok(); err != nil {
		f.Abort(s.why(f))
		return err
	}
	body := &io.LimitedReader{R: s.in, N: one.size}
	failed := f.ReceiveFrom(body, 0)
	if stopped := f.Ended(); stopped != nil {
		failed = stopped
	}
	if failed != nil && body.N > 0 { // what still comes is no line
		io.Copy(io.Discard, body)
	}
	if body.N > 0 {
		f.Abort(s.why(f))
		return errOver
	}
	whole, err := s.answered()
	switch {
	case err != nil:
		f.Abort(s.why(f))
		return err
	case failed != nil:
		f.Abort(failed)
		return s.fault(one.name, failed)
	case !whole:
		f.Abort(keep.Refuse(keep.ClientAborted, "the client could not read all of it"))
		return s.ok()
	}
	var untimed error
	if to.Times {
		untimed = f.Touch(when.access, when.modified, &one.mode)
	}
	if err := s.Work(f.Close); err != nil { // the record is kept before the client hears of success
		return s.fault(one.name, err)
	}
	if untimed != nil {
		return s.fault(one.name, untimed)
	}
	return s.ok()
}

// folder takes a folder with all that is in it.
func (s *Session) folder(to target, one announced, when times) error {
	at, err := to.of(one)
	var info fs.FileInfo
	if err == nil {
		info, _ = s.Tree.Stat(at) // nil: whether it may be made is decided then
	}
	switch {
	case err != nil:
	case !to.Recursive:
		err = keep.Refuse(keep.BadRequest, "a folder comes, and -r was not given")
	case to.depth >= maxDepth:
		err = keep.Refuse(keep.BadRequest, "folders lie too deep in one another")
	case info != nil && !info.IsDir():
		err = keep.Refuse(keep.AlreadyThere, "a file has that name")
	case info == nil:
		mode := one.mode | 0o700
		if err = s.Tree.MayUse(keep.MakeDir, at); err == nil {
			err = s.Work(func() error { return s.Tree.Mkdir(at, &mode) })
		}
	}
	if err != nil {
		return s.fault(one.name, err) // the client then sends nothing of it
	}
	if err := s.ok(); err != nil {
		return err
	}
	if err := s.into(target{to.Command, at, true, to.depth + 1}); err != nil {
		return err
	}
	if to.Times && !when.modified.IsZero() {
		if err := s.Tree.Touch(at, when.access, when.modified, &one.mode); err != nil {
			s.faults++ // the folder's end is acknowledged already
		}
	}
	return nil
}

// readAnnounced reads what stands behind C or D: a mode, a size and a name.
func readAnnounced(line string) (one announced, ok bool) {
	mode, rest, _ := strings.Cut(line, " ")
	size, name, named := strings.Cut(rest, " ")
	bits, err := strconv.ParseUint(mode, 8, 32)
	if err != nil || len(mode) != 4 || !named {
		return one, false
	}
	one.mode, one.name = fs.FileMode(bits)&fs.ModePerm, name
	one.size, err = strconv.ParseInt(size, 10, 64)
	return one, err == nil && one.size >= 0
}

// readTimes reads what stands behind T: seconds and microseconds of the change, and of the last access.
func readTimes(line string) (when times, ok bool) {
	parts := strings.Split(line, " ")
	if len(parts) != 4 {
		return when, false
	}
	var n [4]int64
	for i, part := range parts {
		var err error
		if n[i], err = strconv.ParseInt(part, 10, 48); err != nil || n[i] < 0 || i%2 == 1 && n[i] >= 1_000_000 {
			return when, false
		}
	}
	return times{time.Unix(n[0], n[1]*1000), time.Unix(n[2], n[3]*1000)}, true
}
