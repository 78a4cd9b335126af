package rehearse

import (
	"errors"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"urbankeep/internal/keep"
)

// passClient is a visitor with a link, without a browser.
type passClient struct {
	*portalClient
	pass *keep.Pass
}

func openPass(raw net.Conn, l Listener) (client, error) {
	web, err := overHTTP(raw, l)
	if err != nil {
		return nil, err
	}
	c := &passClient{web, l.Pass}
	c.base += "pass/" + l.Secret.Reveal() + "/"
	_, err = c.ask(http.MethodGet, "", "", nil)
	return c, err
}

// address is where a path of the tree lies below the link; what lies beside it is asked for all the same.
func (c *passClient) address(at string) string {
	for n, own := range c.pass.Paths {
		if keep.Covers(own, at) {
			base := "files"
			if own != "/" {
				base = path.Base(own)
			}
			return strconv.Itoa(n) + "/" + escaped(path.Join(base, strings.TrimPrefix(at, own)))
		}
	}
	return "0/" + escaped(path.Base(c.pass.Paths[0])+"/"+strings.TrimPrefix(at, "/"))
}

func (c *passClient) list(at string) error {
	_, err := c.ask(http.MethodGet, c.address(at)+"/", "", nil)
	return err
}

func (c *passClient) download(at, want string) error {
	return c.fetch(c.address(at), want)
}

func (c *passClient) upload(at, content string) error {
	_, err := c.ask(http.MethodPut, escaped(path.Base(at)), "application/octet-stream", []byte(content))
	return err
}

// remove, mkdir and rename ask for what no link gives.
func (c *passClient) remove(at string) error {
	_, err := c.ask(http.MethodDelete, c.address(at), "", nil)
	return err
}

func (c *passClient) mkdir(at string) error {
	_, err := c.ask("MKCOL", c.address(at), "", nil)
	return err
}

func (c *passClient) rename(at, _ string) error {
	_, err := c.ask("MOVE", c.address(at), "", nil)
	return err
}

func (c *passClient) rmdir(at string) error { return c.remove(at) }

func (c *passClient) close() { c.http.CloseIdleConnections() }

// planPass is plan for a pass of an account, narrowed to it; folders says which of its paths are some.
func planPass(e *keep.Effective, p *keep.Pass, folders map[string]bool, scratch Scratch, mark string) ([]step, error) {
	policy := keep.NewPolicy(e)
	disk := func(at string) string { return onDisk(policy, e, scratch, at) }
	plant := func(at string) error {
		return errors.Join(os.MkdirAll(filepath.Dir(disk(at)), 0o700), os.WriteFile(disk(at), []byte(planted), 0o600))
	}
	download := func(c client, at, _ string) error { return c.download(at, planted) }
	var steps []step
	for _, own := range p.Paths {
		there := own
		if folders[own] {
			there = path.Join(own, "rehearsal-"+mark+"-there")
		}
		if err := plant(there); err != nil {
			return nil, err
		}
		if folders[own] {
			steps = append(steps, step{does: "list", rights: []need{{keep.List, own}}, at: own, try: func(c client, at, _ string) error { return c.list(at) }})
		}
		steps = append(steps,
			step{does: "download", rights: []need{{keep.Download, there}}, at: there, try: download},
			step{does: "delete", rights: []need{{keep.Delete, there}}, at: there, try: func(c client, at, _ string) error { return c.remove(at) }, seen: gone, file: disk(there)})
		if folders[own] && !p.Apart { // else it lies in a folder of the visit's own
			fresh := path.Join(own, "rehearsal-"+mark+"-new")
			steps = append(steps, step{does: "upload", rights: []need{{keep.Upload, fresh}}, at: fresh, try: upload, seen: holdsSent, file: disk(fresh)})
		}
	}
	beside := path.Join(path.Dir(p.Paths[0]), "rehearsal-"+mark+"-beside")
	if p.Paths[0] == "/" {
		return steps, nil
	}
	if err := plant(beside); err != nil {
		return nil, err
	}
	return append(steps,
		step{does: "download beside", rights: []need{{keep.Download, beside}}, at: beside, try: download},
		step{does: "leave by ..", at: "../" + path.Base(beside), try: download, escape: true}), nil
}
