package ftp

import (
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// entry is one line to be of a listing.
type entry struct {
	fs.FileInfo
	name string // as it is to be shown
	at   string // its path in the tree
}

// entries finds what LIST and NLST are to show: a folder's contents, one file,
// or what a pattern in the last part of the path matches. Options as of ls,
// which clients send, are skipped.
func (c *conn) entries(arg string) ([]entry, error) {
	at, err := c.path(skipOptions(arg))
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
		return []entry{{info, skipOptions(arg), folder}}, nil
	}
	found, err := c.tree.List(folder)
	if err != nil {
		return nil, err
	}
	var rows []entry
	for _, info := range found {
		if pattern != "" {
			if match, err := path.Match(pattern, info.Name()); err != nil || !match {
				continue
			}
		}
		rows = append(rows, entry{info, info.Name(), path.Join(folder, info.Name())})
	}
	return rows, nil
}

func skipOptions(arg string) string {
	for strings.HasPrefix(arg, "-") {
		_, arg, _ = strings.Cut(arg, " ")
	}
	return arg
}

func (c *conn) cmdList(arg string) error {
	return c.listing(arg, func(e entry) string { return c.longLine(e) })
}

func (c *conn) cmdNlst(arg string) error {
	prefix := ""
	if dir := path.Dir(skipOptions(arg)); strings.Contains(arg, "/") && strings.ContainsAny(path.Base(arg), "*?[") {
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
		c.data.drop()
		return err
	}
	rows := make([]string, len(entries))
	for i, e := range entries {
		rows[i] = form(e)
	}
	return c.sendListing(rows)
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
	c.replyBlock(250, "Facts:", []string{c.facts(info, at, "") + " " + at}, "End")
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
	var found []fs.FileInfo
	if err == nil {
		found, err = c.tree.List(at)
	}
	if err != nil {
		c.data.drop()
		return err
	}
	rows := []string{c.facts(info, at, "cdir") + " ."}
	for _, info := range found {
		rows = append(rows, c.facts(info, path.Join(at, info.Name()), "")+" "+info.Name())
	}
	return c.sendListing(rows)
}

// facts is RFC 3659, section 7.5; perm says what the account's rights say.
func (c *conn) facts(info fs.FileInfo, at, kind string) string {
	switch {
	case kind != "":
	case info.IsDir():
		kind = "dir"
	case info.Mode()&fs.ModeSymlink != 0:
		kind = "OS.unix=symlink"
	default:
		kind = "file"
	}
	size := ""
	if !info.IsDir() {
		size = fmt.Sprintf("size=%d;", info.Size())
	}
	unique := ""
	if id := fileID(info); id != "" {
		unique = "unique=" + id + ";"
	}
	return fmt.Sprintf("type=%s;%smodify=%s;perm=%s;%sunix.mode=%04o;", kind, size, info.ModTime().UTC().Format(timeForm),
		c.permFact(info.IsDir(), at), unique, info.Mode().Perm())
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

func (c *conn) permFact(folder bool, at string) string {
	letters := fileLetters
	if folder {
		letters = folderLetters
	}
	var perm []byte
	for _, l := range letters {
		if c.tree.May(l.right, at) {
			perm = append(perm, l.letter)
		}
	}
	return string(perm)
}
