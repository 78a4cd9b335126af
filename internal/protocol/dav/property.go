package dav

import (
	"bufio"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

const (
	xmlType = "application/xml; charset=utf-8"
	xml1    = `<?xml version="1.0" encoding="utf-8"?>` + "\n"
	// maxNames bounds the properties that one request asks for: they are told of each of many files.
	maxNames = 200
	// windows is the namespace of what a desktop keeps of its files.
	windows = "urn:schemas-microsoft-com:"
)

// resource is something of which properties are told.
type resource struct {
	at    string
	info  fs.FileInfo
	spot  Spot
	real  string      // its path after links: rights are decided on it
	locks []keep.Lock // on it and on the folders that lead to it
	dead  []keep.Property
}

// live are the properties that the service itself knows, in DAV's namespace. A resource that has one gives its content.
var live = []struct {
	name string
	all  bool // it is told without being asked for
	of   func(c *call, r *resource) (content string, has bool)
}{
	{"resourcetype", true, func(_ *call, r *resource) (string, bool) {
		if r.info.IsDir() {
			return "<d:collection/>", true
		}
		return "", true
	}},
	{"displayname", true, func(_ *call, r *resource) (string, bool) { return escape(path.Base(r.at)), r.at != "/" }},
	{"getlastmodified", true, func(_ *call, r *resource) (string, bool) { return r.info.ModTime().UTC().Format(http.TimeFormat), true }},
	{"creationdate", true, func(_ *call, r *resource) (string, bool) { return r.info.ModTime().UTC().Format(time.RFC3339), true }},
	{"getcontentlength", true, func(_ *call, r *resource) (string, bool) {
		return strconv.FormatInt(r.info.Size(), 10), !r.info.IsDir()
	}},
	{"getcontenttype", true, func(_ *call, r *resource) (string, bool) {
		kind := mime.TypeByExtension(path.Ext(r.at))
		if kind == "" {
			kind = "application/octet-stream"
		}
		return escape(kind), !r.info.IsDir()
	}},
	{"getetag", true, func(c *call, r *resource) (string, bool) { return escape(c.one.Tree.Tag(r.info)), !r.info.IsDir() }},
	{"supportedlock", true, func(*call, *resource) (string, bool) {
		return "<d:lockentry><d:lockscope><d:exclusive/></d:lockscope><d:locktype><d:write/></d:locktype></d:lockentry>" +
			"<d:lockentry><d:lockscope><d:shared/></d:lockscope><d:locktype><d:write/></d:locktype></d:lockentry>", true
	}},
	{"lockdiscovery", true, func(c *call, r *resource) (string, bool) { return activeLocks(c.one, covering(r.locks, r.spot)), true }},
	{"quota-available-bytes", false, func(c *call, r *resource) (string, bool) { // RFC 4331
		space, err := c.one.Tree.Space(r.at)
		return strconv.FormatUint(min(space.FreeBytes, 1<<62), 10), err == nil && r.info.IsDir()
	}},
	{"quota-used-bytes", false, func(c *call, r *resource) (string, bool) {
		space, err := c.one.Tree.Space(r.at)
		return strconv.FormatUint(space.Bytes-min(space.Bytes, space.FreeBytes), 10), err == nil && r.info.IsDir()
	}},
	{"current-user-privilege-set", false, func(c *call, r *resource) (string, bool) { return privileges(c, r), true }}, // RFC 3744, section 5.4
}

// privileges are those of RFC 3744, section 3, that the account has on a resource.
func privileges(c *call, r *resource) string {
	may := func(at string, rights ...keep.Rights) bool {
		return slices.ContainsFunc(rights, func(right keep.Rights) bool { return c.one.Tree.May(right, at) })
	}
	var have []string
	add := func(is bool, name string) {
		if is {
			have = append(have, "<d:privilege><d:"+name+"/></d:privilege>")
		}
	}
	in := path.Join(r.real, "x")
	if r.info.IsDir() {
		add(may(r.real, keep.List), "read")
		add(may(in, keep.Upload, keep.Mkdir), "bind")
		add(may(in, keep.Delete, keep.Rmdir), "unbind")
	} else {
		add(may(r.real, keep.Download), "read")
		add(may(r.real, keep.Overwrite), "write-content")
	}
	add(may(r.real, keep.Touch, keep.Overwrite), "write-properties")
	return strings.Join(have, "")
}

// activeLocks tells of locks (RFC 4918, section 14.1). Tokens are told to their accounts only.
func activeLocks(one *stay, locks []keep.Lock) string {
	var b strings.Builder
	for _, l := range locks {
		scope, deep := "exclusive", "0"
		if l.Shared {
			scope = "shared"
		}
		if l.Deep {
			deep = "infinity"
		}
		fmt.Fprintf(&b, "<d:activelock><d:locktype><d:write/></d:locktype><d:lockscope><d:%s/></d:lockscope><d:depth>%s</d:depth>", scope, deep)
		b.WriteString(l.Owner)
		fmt.Fprintf(&b, "<d:timeout>Second-%d</d:timeout>", max(0, int64(time.Until(l.Expires).Seconds())))
		if l.Account == one.account {
			b.WriteString("<d:locktoken><d:href>" + escape(l.Token) + "</d:href></d:locktoken>")
		}
		root, known := one.Tree.PathTo(Spot{Store: l.Store, Path: l.Path})
		if !known { // it lies above what the account sees
			root = "/"
		}
		b.WriteString("<d:lockroot><d:href>" + escape(href(root, false)) + "</d:href></d:lockroot>")
		b.WriteString("</d:activelock>")
	}
	return b.String()
}

// wanted is which properties are asked for.
type wanted struct {
	names   []xml.Name // besides, or instead of, all
	all     bool
	nameing bool // their names only
}

var errPropfind = status(http.StatusBadRequest, "the body is no propfind (RFC 4918, section 14.20)")

func wantedIn(e *element) (want wanted, err error) {
	if e == nil {
		return wanted{all: true}, nil
	}
	if e.space != davSpace || e.name != "propfind" {
		return want, errPropfind
	}
	prop, include := e.child("prop"), e.child("include")
	ways := 0
	for _, way := range []string{"prop", "propname", "allprop"} {
		if e.child(way) != nil {
			ways++
		}
	}
	switch {
	case ways > 1:
		return want, errPropfind
	case e.child("propname") != nil:
		return wanted{nameing: true}, nil
	case e.child("allprop") != nil:
		want.all, prop = true, include
	case prop == nil:
		return want, errPropfind
	}
	if prop != nil {
		if len(prop.elements()) > maxNames {
			return want, status(http.StatusBadRequest, fmt.Sprintf("ask for %d properties at the most", maxNames))
		}
		for _, one := range prop.elements() {
			want.names = append(want.names, xml.Name{Space: one.space, Local: one.name})
		}
	}
	return want, nil
}

// tag is an empty element of a name.
func tag(name xml.Name) string {
	if name.Space == davSpace {
		return "<d:" + name.Local + "/>"
	}
	var b strings.Builder
	(&element{space: name.Space, name: name.Local}).write(&b)
	return b.String()
}

// multistatus writes 207 while it comes to be known.
type multistatus struct {
	w    http.ResponseWriter
	out  *bufio.Writer
	open bool
}

func (m *multistatus) begin() {
	if m.open {
		return
	}
	m.open = true
	m.w.Header().Set("Content-Type", xmlType)
	m.w.WriteHeader(http.StatusMultiStatus)
	m.out = bufio.NewWriterSize(m.w, 64<<10)
	m.out.WriteString(xml1 + `<d:multistatus xmlns:d="DAV:">`)
}

// failure says why nothing more can be told: who asked has left, or takes nothing.
func (m *multistatus) failure() error {
	if !m.open {
		return nil
	}
	_, err := m.out.WriteString("")
	return err
}

func (m *multistatus) end() error {
	m.begin()
	m.out.WriteString("</d:multistatus>")
	m.out.Flush()
	return nil
}

// failed tells that something could not be done with a path.
func (m *multistatus) failed(at string, folder bool, code int) {
	m.begin()
	fmt.Fprintf(m.out, "<d:response><d:href>%s</d:href>%s</d:response>", escape(href(at, folder)), statusLine(code))
}

func statusLine(code int) string {
	return fmt.Sprintf("<d:status>HTTP/1.1 %d %s</d:status>", code, http.StatusText(code))
}

// tell tells the properties of a resource that are wanted.
func (m *multistatus) tell(c *call, r *resource, want wanted) {
	m.begin()
	out := m.out
	out.WriteString("<d:response><d:href>" + escape(href(r.at, r.info.IsDir())) + "</d:href><d:propstat><d:prop>")
	var lacks []xml.Name
	told := map[xml.Name]bool{}
	give := func(name string, content string) {
		if want.nameing || content == "" {
			out.WriteString("<d:" + name + "/>")
		} else {
			out.WriteString("<d:" + name + ">" + content + "</d:" + name + ">")
		}
	}
	if want.all || want.nameing {
		for _, p := range live {
			if !p.all && !want.nameing {
				continue
			}
			if content, has := p.of(c, r); has {
				give(p.name, content)
				told[xml.Name{Space: davSpace, Local: p.name}] = true
			}
		}
		for _, p := range r.dead {
			told[xml.Name{Space: p.Space, Local: p.Name}] = true
			if want.nameing {
				out.WriteString(tag(xml.Name{Space: p.Space, Local: p.Name}))
			} else {
				out.WriteString(p.Value)
			}
		}
	}
	for _, name := range want.names {
		if told[name] {
			continue
		}
		told[name] = true
		if i := slices.IndexFunc(r.dead, func(p keep.Property) bool { return p.Space == name.Space && p.Name == name.Local }); i >= 0 {
			out.WriteString(r.dead[i].Value)
			continue
		}
		content, has := "", false
		if i := indexLive(name); i >= 0 {
			content, has = live[i].of(c, r)
		}
		if has {
			give(name.Local, content)
		} else if content, has = desktop(name, r.info); has {
			out.WriteString(content)
		} else {
			lacks = append(lacks, name)
		}
	}
	out.WriteString("</d:prop>" + statusLine(http.StatusOK) + "</d:propstat>")
	if len(lacks) > 0 {
		out.WriteString("<d:propstat><d:prop>")
		for _, name := range lacks {
			out.WriteString(tag(name))
		}
		out.WriteString("</d:prop>" + statusLine(http.StatusNotFound) + "</d:propstat>")
	}
	out.WriteString("</d:response>")
}

func indexLive(name xml.Name) int {
	if name.Space != davSpace {
		return -1
	}
	for i := range live {
		if live[i].name == name.Local {
			return i
		}
	}
	return -1
}

// desktop gives what Windows keeps of its files, by what the file has.
func desktop(name xml.Name, info fs.FileInfo) (content string, has bool) {
	if name.Space != windows {
		return "", false
	}
	value := ""
	switch name.Local {
	case "Win32LastModifiedTime", "Win32CreationTime", "Win32LastAccessTime":
		value = info.ModTime().UTC().Format(http.TimeFormat)
	case "Win32FileAttributes":
		value = "00000020" // to be archived
		if info.IsDir() {
			value = "00000010"
		}
	default:
		return "", false
	}
	var b strings.Builder
	(&element{space: name.Space, name: name.Local, inside: []any{value}}).write(&b)
	return b.String(), true
}

// errCut says that there is more than may be told of.
var errCut = errors.New("there is more than may be told of")

func (c *call) propfind() error {
	info, err := c.one.Tree.Stat(c.at)
	if err != nil {
		return err
	}
	asked, err := c.body()
	if err != nil {
		return err
	}
	want, err := wantedIn(asked)
	if err != nil {
		return err
	}
	d, err := depth(c.r, -1)
	if err != nil {
		return err
	}
	if err := c.conditions(info); err != nil {
		return err
	}
	m := &multistatus{w: c.w}
	n := 0
	err = c.find(m, c.at, info, nil, d, want, &n)
	if err == errCut {
		m.failed(c.at, true, http.StatusInsufficientStorage) // as in RFC 6578, section 3.6
		return m.end()
	}
	if err != nil {
		if !m.open {
			return err
		}
		panic(http.ErrAbortHandler) // the client sees that it is not whole
	}
	return m.end()
}

// find tells of a path, and of what is below it as far as it is asked for. dead are its dead properties, where they are
// known already.
func (c *call) find(m *multistatus, at string, info fs.FileInfo, dead map[string][]keep.Property, d int, want wanted, n *int) error {
	if *n++; d < 0 && *n > c.one.visit.DeepListing() {
		return errCut
	}
	r, err := c.resource(at, info)
	if err != nil {
		return err
	}
	if dead == nil {
		if dead, err = c.one.visit.DeadProperties(c.r.Context(), r.spot, d != 0); err != nil {
			return err
		}
	}
	r.dead = dead[r.spot.Path]
	if r.locks, err = c.locksFor(r.spot, want); err != nil {
		return err
	}
	if !info.IsDir() || d == 0 {
		m.tell(c, r, want)
		return nil
	}
	listing, err := c.one.Tree.ReadFolder(at)
	if err != nil && *n == 1 {
		return err
	}
	m.tell(c, r, want)
	if err != nil {
		return nil // what may not be seen is not there
	}
	defer listing.Close()
	return each(c.r.Context(), listing, func(found fs.FileInfo) error {
		if err := m.failure(); err != nil {
			return err
		}
		child := path.Join(at, keep.Spell(found.Name()))
		led := found.Mode()&fs.ModeSymlink != 0
		if led {
			if found, err = c.one.Tree.Stat(child); err != nil {
				return nil
			}
		}
		if d < 0 {
			return c.find(m, child, found, nil, -1, want, n)
		}
		*n++
		one := &resource{at: child, info: found, real: path.Join(r.real, path.Base(child)), spot: Spot{Store: r.spot.Store, Path: path.Join(r.spot.Path, path.Base(child))}}
		known := dead
		if led || found.IsDir() { // it may lie elsewhere: a link, a mount
			there := one.spot
			if one, err = c.resource(child, found); err != nil {
				return err
			}
			if one.spot != there {
				if known, err = c.one.visit.DeadProperties(c.r.Context(), one.spot, false); err != nil {
					return err
				}
			}
		}
		one.dead = known[one.spot.Path]
		if one.locks, err = c.locksFor(one.spot, want); err != nil {
			return err
		}
		m.tell(c, one, want)
		return nil
	})
}

// resource is something that is there, by its path.
func (c *call) resource(at string, info fs.FileInfo) (*resource, error) {
	lies, err := c.one.Tree.Place(at, true)
	if err != nil && !missing(err) {
		lies = tree.Place{Path: at}
	}
	return &resource{at: at, info: info, spot: lies.Spot, real: lies.Path}, c.r.Context().Err()
}

// locksFor are the locks over a spot, where anybody wants to know.
func (c *call) locksFor(at Spot, want wanted) ([]keep.Lock, error) {
	if !want.all && !slices.Contains(want.names, xml.Name{Space: davSpace, Local: "lockdiscovery"}) {
		return nil, nil
	}
	return c.one.visit.LocksOver(c.r.Context(), at)
}

type lister interface {
	Next(buffer int) ([]fs.FileInfo, error)
}

func each(ctx context.Context, listing lister, do func(fs.FileInfo) error) error {
	for ctx.Err() == nil {
		found, err := listing.Next(exchange.ListBuffer)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for _, info := range found {
			if err := do(info); err != nil {
				return err
			}
			if err := ctx.Err(); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// proppatch sets and removes dead properties, all or none.
func (c *call) proppatch() error {
	info, err := c.one.Tree.Stat(c.at)
	if err != nil {
		return err
	}
	asked, err := c.body()
	if err != nil {
		return err
	}
	if asked == nil || asked.space != davSpace || asked.name != "propertyupdate" {
		return status(http.StatusBadRequest, "the body is no propertyupdate (RFC 4918, section 14.19)")
	}
	if err := c.conditions(info); err != nil {
		return err
	}
	if err := c.unlocked(c.at, changed); err != nil {
		return err
	}
	lies, err := c.one.Tree.Place(c.at, true)
	if err != nil {
		return err
	}
	if err := c.one.Tree.Why(keep.Touch, lies.Path); err != nil && c.one.Tree.Why(keep.Overwrite, lies.Path) != nil {
		return err
	}
	var set, remove []keep.Property
	var names, kept []xml.Name
	var times []func() error
	var modified time.Time
	for _, change := range asked.elements() {
		prop := change.child("prop")
		if change.space != davSpace || change.name != "set" && change.name != "remove" || prop == nil {
			return status(http.StatusBadRequest, "a propertyupdate has set and remove, each with prop")
		}
		for _, p := range prop.elements() {
			name := xml.Name{Space: p.space, Local: p.name}
			names = append(names, name)
			switch {
			case p.space == davSpace && p.name == "getlastmodified" && change.name == "set" && parsed(p, &modified):
			case p.space == davSpace:
				kept = append(kept, name) // what the service says itself nobody else does
			case change.name == "remove":
				remove = append(remove, keep.Property{Space: p.space, Name: p.name})
				set = slices.DeleteFunc(set, func(one keep.Property) bool { return one.Space == p.space && one.Name == p.name })
			default:
				if touch := c.touches(p); touch != nil {
					times = append(times, touch)
				}
				var text strings.Builder
				p.speak()
				p.write(&text)
				set = append(set, keep.Property{Space: p.space, Name: p.name, Value: text.String()})
			}
		}
	}
	code := http.StatusOK
	if len(kept) == 0 && !modified.IsZero() && c.one.Tree.Touch(c.at, time.Time{}, modified, nil) != nil {
		kept = append(kept, xml.Name{Space: davSpace, Local: "getlastmodified"})
	}
	switch {
	case len(kept) > 0:
		code = http.StatusFailedDependency
	default:
		if err := c.one.visit.SetProperties(c.r.Context(), lies.Spot, set, remove); err != nil {
			return err
		}
		for _, touch := range times {
			if touch() != nil {
				break // the property is kept; the time of the file is not ours to set
			}
		}
	}
	m := &multistatus{w: c.w}
	m.begin()
	m.out.WriteString("<d:response><d:href>" + escape(href(c.at, info.IsDir())) + "</d:href>")
	for _, part := range []struct {
		code  int
		these func(xml.Name) bool
	}{{http.StatusForbidden, func(n xml.Name) bool { return slices.Contains(kept, n) }}, {code, func(n xml.Name) bool { return !slices.Contains(kept, n) }}} {
		var tags strings.Builder
		for _, name := range names {
			if part.these(name) {
				tags.WriteString(tag(name))
			}
		}
		if tags.Len() > 0 {
			why := ""
			if part.code == http.StatusForbidden {
				why = "<d:error><d:cannot-modify-protected-property/></d:error>"
			}
			m.out.WriteString("<d:propstat><d:prop>" + tags.String() + "</d:prop>" + statusLine(part.code) + why + "</d:propstat>")
		}
	}
	m.out.WriteString("</d:response>")
	return m.end()
}

// touches sets the times that Windows keeps; nil for other properties.
func (c *call) touches(p *element) func() error {
	if p.space != windows || p.name != "Win32LastModifiedTime" {
		return nil
	}
	var at time.Time
	if !parsed(p, &at) {
		return nil
	}
	return func() error { return c.one.Tree.Touch(c.at, time.Time{}, at, nil) }
}

// parsed reads the time that a property says.
func parsed(p *element, into *time.Time) bool {
	at, err := http.ParseTime(strings.TrimSpace(p.text()))
	if err == nil {
		*into = at
	}
	return err == nil
}
