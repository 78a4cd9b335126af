package main

import (
	"bufio"
	"errors"
	"fmt"
	"html"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// members are the files of a folder that is told of.
func members() int { return fewObjects * 10 }

// tellMembers is the least that a PROPFIND can be: the folder is read and as much is written of each file.
func tellMembers(w http.ResponseWriter, folder string) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	w.WriteHeader(http.StatusMultiStatus)
	out := bufio.NewWriterSize(w, 64<<10)
	for _, entry := range entries {
		info, err := entry.Info()
		if err != nil {
			panic(http.ErrAbortHandler)
		}
		fmt.Fprintf(out, "<d:response><d:href>/dav/members/%s</d:href><d:propstat><d:prop><d:resourcetype/><d:displayname>%s</d:displayname><d:getlastmodified>%s</d:getlastmodified><d:getcontentlength>%d</d:getcontentlength><d:getetag>%x</d:getetag></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>",
			html.EscapeString(entry.Name()), html.EscapeString(entry.Name()), info.ModTime().UTC().Format(http.TimeFormat), info.Size(), info.ModTime().UnixNano())
	}
	out.Flush()
}

const asked = `<propfind xmlns="DAV:"><prop><resourcetype/><displayname/><getlastmodified/><getcontentlength/><getetag/></prop></propfind>`

func (w *world) needMembers() error {
	if err := w.needWeb(); err != nil {
		return err
	}
	for _, folder := range []string{filepath.Join(w.dir, "webfloor", "members"), filepath.Join(w.store, "members")} {
		if err := os.Mkdir(folder, 0o755); errors.Is(err, os.ErrExist) {
			continue
		} else if err != nil {
			return err
		}
		for n := range members() {
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("plate-%05d.tif", n)), nil, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

const davUser = "crew:a password for the bench"

// told counts the members that are told of, each second.
func (w *world) told(at func() string, args ...string) (float64, error) {
	if err := w.needMembers(); err != nil {
		return 0, err
	}
	return w.page(members(), at, args...)
}

// manySmall writes small files, one after the other, on one connection.
func (w *world) manySmall(at func(name string) func() string, args ...string) (float64, error) {
	if err := w.needWeb(); err != nil {
		return 0, err
	}
	small, n := filepath.Join(w.dir, "one-small"), min(2000, smallFiles)
	if err := os.WriteFile(small, make([]byte, smallSize), 0o644); err != nil {
		return 0, err
	}
	defer func() {
		for _, folder := range []string{filepath.Join(w.dir, "webfloor"), w.store} {
			left, _ := filepath.Glob(filepath.Join(folder, "small-*"))
			for _, file := range left {
				os.Remove(file)
			}
		}
	}()
	var lines strings.Builder
	for i := range n {
		fmt.Fprintf(&lines, "url = \"%s\"\nupload-file = \"%s\"\n", at(fmt.Sprintf("small-%05d", i))(), small)
	}
	return timed(n, func() error {
		run := exec.Command("curl", append(args, "-sSkf", "--http1.1", "-K", "-")...)
		run.Stdin = strings.NewReader(lines.String())
		out, err := run.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	})
}

func (w *world) davRows() []row {
	dav := func(name string) func() string {
		return func() string { return "http://" + w.ours.console + "/dav/" + name }
	}
	floor := func(name string) func() string { return func() string { return w.web.floorAt + name } }
	return []row{
		{name: "WebDAV download, 1 GiB", unit: "MiB/s", target: 0.9,
			ours:  func() (float64, error) { return w.page(w.mib, dav("large"), "-u", davUser) },
			floor: func() (float64, error) { return w.page(w.mib, floor("large")) }},
		{name: "WebDAV upload, 1 GiB", unit: "MiB/s", target: 0.9,
			ours:  func() (float64, error) { return w.sent(dav("up"), "-u", davUser, "-T", w.large) },
			floor: func() (float64, error) { return w.sent(floor("up"), "-T", w.large) }},
		{name: "WebDAV upload, 2,000 files of 4 KiB, on one connection", unit: "files/s",
			ours:  func() (float64, error) { return w.manySmall(dav, "-u", davUser) },
			floor: func() (float64, error) { return w.manySmall(floor) }},
		{name: "WebDAV PROPFIND of 10,000 members", unit: "per s", target: 0.6,
			ours: func() (float64, error) {
				return w.told(dav("members/"), "-u", davUser, "-X", "PROPFIND", "-H", "Depth: 1", "-d", asked)
			},
			floor: func() (float64, error) { return w.told(floor("members"), "-X", "PROPFIND", "-d", asked) }},
	}
}
