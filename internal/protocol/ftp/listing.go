package ftp

import (
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// entry is one line to be of a listing.
type entry struct {
	fs.FileInfo
	name string // as it is to be shown
	at   string // its path in the tree
}

// shown is what LIST and NLST show: a folder's contents, one file, or what a pattern in
// the last part of the path matches.
type shown struct {
	one     *entry
	folder  *tree.Listing
	at      string
	pattern string
}

// entries finds what is to be shown. Options as of ls, which clients send, are skipped, unless
// something is named so.
func (c *conn) entries(arg string) (*shown, error) {
	arg = c.named(arg)
	at, err := c.path(arg)
	if err != nil {
		return nil, err
	}
	folder, pattern := at, ""
	if strings.ContainsAny(path.Base(at), "*?[") {
		if _, err := c.tree.Lstat(at); err != nil {
			folder, pattern = path.Dir(at), path.Base(at)
		}
	}
	info, err := c.tree.Stat(folder)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return &shown{one: &entry{info, arg, folder}}, nil
	}
	l, err := c.tree.ReadFolder(folder)
	if err != nil {
		return nil, err
	}
	return &shown{folder: l, at: folder, pattern: pattern}, nil
}

// each gives the entries as they are read, and lets go of the folder.
func (s *shown) each(do func(entry)) error {
	if s.one != nil {
		do(*s.one)
		return nil
	}
	return readThrough(s.folder, func(info fs.FileInfo) {
		if s.pattern != "" {
			if match, err := path.Match(s.pattern, info.Name()); err != nil || !match {
				return
			}
		}
		do(entry{info, info.Name(), path.Join(s.at, info.Name())})
	})
}

// readThrough reads a folder to its end and closes it. While something is done with what was read, the next is read.
func readThrough(l *tree.Listing, do func(fs.FileInfo)) error {
	defer l.Close()
	for {
		found, err := l.Next(store.LargeRead)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		var ahead sync.WaitGroup
		if len(found) > fewEntries {
			ahead.Go(func() { l.ReadAhead(store.LargeRead) })
		}
		for _, info := range found {
			do(info)
		}
		ahead.Wait()
	}
}

// fewEntries are told sooner than somebody else has begun to read on.
const fewEntries = 100

// named is what LIST and NLST are about.
func (c *conn) named(arg string) string {
	for strings.HasPrefix(arg, "-") {
		if at, err := c.path(arg); err == nil {
			if _, err := c.tree.Lstat(at); err == nil {
				break
			}
		}
		_, arg, _ = strings.Cut(arg, " ")
	}
	return arg
}

func (c *conn) cmdList(arg string) error {
	return c.listing(arg, func(e entry) string { return c.longLine(e) })
}

func (c *conn) cmdNlst(arg string) error {
	prefix := ""
	if dir := path.Dir(c.named(arg)); strings.Contains(arg, "/") && strings.ContainsAny(path.Base(arg), "*?[") {
		prefix = strings.TrimSuffix(dir, "/") + "/"
	}
	return c.listing(arg, func(e entry) string { return prefix + e.name })
}

func (c *conn) listing(arg string, form func(entry) string) error {
	if err := c.canTransfer(); err != nil {
		return err
	}
	entries, err := c.entries(arg)
	if err != nil {
		return err
	}
	return c.sendListing(func(line func([]byte)) error {
		return entries.each(func(e entry) { line([]byte(form(e))) })
	})
}

// longLine is the line that every client parses.
func (c *conn) longLine(e entry) string {
	when := e.ModTime().UTC()
	stamp := when.Format("Jan _2 15:04")
	if age := time.Since(when); age > 180*24*time.Hour || age < -24*time.Hour {
		stamp = when.Format("Jan _2  2006")
	}
	name := e.name
	if e.Mode()&fs.ModeSymlink != 0 {
		if target, err := c.tree.Readlink(e.at); err == nil {
			name += " -> " + target
		}
	}
	return fmt.Sprintf("%s %3d %-8s %-8s %12d %s %s", longMode(e.Mode()), 1, c.tree.Account(), c.tree.Account(), e.Size(), stamp, name)
}

func longMode(mode fs.FileMode) string {
	kind := "-"
	switch {
	case mode.IsDir():
		kind = "d"
	case mode&fs.ModeSymlink != 0:
		kind = "l"
	}
	return kind + mode.Perm().String()[1:]
}

// cmdMlst tells the facts of one path over the command connection (RFC 3659,
// section 7).
func (c *conn) cmdMlst(arg string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	info, err := c.tree.Stat(at)
	if err != nil {
		return err
	}
	c.replyBlock(250, "Facts:", []string{string(c.factsOf(nil, info, at, "")) + at}, "End")
	return nil
}

// cmdMlsd lists a folder's facts over a data connection.
func (c *conn) cmdMlsd(arg string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	if err := c.canTransfer(); err != nil {
		return err
	}
	info, err := c.tree.Stat(at)
	if err == nil && !info.IsDir() {
		err = fail{501, "MLSD lists folders; use MLST for a file"}
	}
	var found *tree.Listing
	if err == nil {
		found, err = c.tree.ReadFolder(at)
	}
	if err != nil {
		return err
	}
	return c.sendListing(func(line func([]byte)) error {
		room := append(c.factsOf(nil, info, at, "cdir"), '.')
		line(room)
		above := strings.TrimSuffix(at, "/") + "/"
		return readThrough(found, func(info fs.FileInfo) {
			room = append(c.factsOf(room[:0], info, above+info.Name(), ""), info.Name()...)
			line(room)
		})
	})
}

// factNames are the facts that are known, in the order they are told.
var factNames = []string{"type", "size", "modify", "perm", "unique", "unix.mode"}

// factFeature is the line of FEAT, with the facts that are told marked (RFC 3659,
// section 7.8).
func (c *conn) factFeature() string {
	text := ""
	for _, name := range factNames {
		text += name
		if slices.Contains(c.facts, name) {
			text += "*"
		}
		text += ";"
	}
	return text
}

// chooseFacts is OPTS MLST (section 7.9): what is not known is passed over.
func (c *conn) chooseFacts(list string) {
	c.facts = nil
	for _, name := range factNames {
		for word := range strings.SplitSeq(list, ";") {
			if strings.EqualFold(strings.TrimSpace(word), name) && !slices.Contains(c.facts, name) {
				c.facts = append(c.facts, name)
			}
		}
	}
}

// factsOf adds the facts of section 7.5; perm says what the account's rights say. It is made for every entry of every
// listing, so it is put together in place.
func (c *conn) factsOf(to []byte, info fs.FileInfo, at, kind string) []byte {
	for _, name := range c.facts {
		begin := len(to)
		to = append(append(to, name...), '=')
		value := len(to)
		if to = c.fact(to, name, info, at, kind); len(to) == value && name != "perm" {
			to = to[:begin]
			continue
		}
		to = append(to, ';')
	}
	return append(to, ' ')
}

// fact adds the value of one fact, nothing where it does not apply.
func (c *conn) fact(to []byte, name string, info fs.FileInfo, at, kind string) []byte {
	switch name {
	case "type":
		switch {
		case kind != "":
			return append(to, kind...)
		case info.IsDir():
			return append(to, "dir"...)
		case info.Mode()&fs.ModeSymlink != 0:
			return append(to, "OS.unix=symlink"...)
		}
		return append(to, "file"...)
	case "size":
		if info.IsDir() {
			return to
		}
		return strconv.AppendInt(to, info.Size(), 10)
	case "modify":
		return appendTime(to, info.ModTime())
	case "perm":
		return c.permFact(to, info.IsDir(), at)
	case "unique":
		return fileID(to, info)
	}
	mode := info.Mode().Perm()
	return append(to, '0', byte('0'+mode>>6&7), byte('0'+mode>>3&7), byte('0'+mode&7))
}

// appendTime adds a time as [timeForm] has it.
func appendTime(to []byte, when time.Time) []byte {
	year, month, day := when.UTC().Date()
	hour, minute, second := when.UTC().Clock()
	if year < 1000 || year > 9999 {
		return when.UTC().AppendFormat(to, timeForm)
	}
	for _, two := range [...]int{year / 100, year % 100, int(month), day, hour, minute, second} {
		to = append(to, byte('0'+two/10), byte('0'+two%10))
	}
	return to
}

// permLetters pairs the rights with the letters of RFC 3659, section 7.5.5.
var (
	fileLetters = []struct {
		right  keep.Rights
		letter byte
	}{{keep.Overwrite, 'a'}, {keep.Delete, 'd'}, {keep.Rename, 'f'}, {keep.Download, 'r'}, {keep.Overwrite, 'w'}}
	folderLetters = []struct {
		right  keep.Rights
		letter byte
	}{{keep.Upload, 'c'}, {keep.Rmdir, 'd'}, {0, 'e'}, {keep.Rename, 'f'}, {keep.List, 'l'}, {keep.Mkdir, 'm'}, {keep.Delete, 'p'}}
)

func (c *conn) permFact(to []byte, folder bool, at string) []byte {
	letters := fileLetters
	if folder {
		letters = folderLetters
	}
	may := c.tree.MayWhat(at)
	for _, l := range letters {
		if may(l.right) {
			to = append(to, l.letter)
		}
	}
	return to
}
