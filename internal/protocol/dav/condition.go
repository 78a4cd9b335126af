package dav

import (
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// condition is one of an If header: a lock's token or an entity tag.
type condition struct {
	not   bool
	token string
	etag  string
}

// list are conditions that must all hold for a resource; "" is the one that is asked for.
type list struct {
	resource   string
	conditions []condition
}

// maxConditions bounds an If header.
const maxConditions = 1000

var errIf = status(http.StatusBadRequest, "the If header is not well-formed (RFC 4918, section 10.4)")

// parseIf reads an If header.
func parseIf(text string) ([]list, error) {
	var lists []list
	resource, n := "", 0
	for text = strings.TrimSpace(text); text != ""; text = strings.TrimSpace(text) {
		switch text[0] {
		case '<':
			uri, rest, ok := strings.Cut(text[1:], ">")
			if !ok {
				return nil, errIf
			}
			resource, text = uri, rest
			if rest = strings.TrimSpace(rest); rest == "" || rest[0] != '(' {
				return nil, errIf
			}
		case '(':
			one := list{resource: resource}
			text = strings.TrimSpace(text[1:])
			for text != "" && text[0] != ')' {
				if n++; n > maxConditions {
					return nil, errIf
				}
				var c condition
				if len(text) > 3 && strings.EqualFold(text[:3], "not") {
					c.not, text = true, strings.TrimSpace(text[3:])
				}
				ok := false
				switch {
				case strings.HasPrefix(text, "<"):
					c.token, text, ok = strings.Cut(text[1:], ">")
					ok = ok && c.token != ""
				case strings.HasPrefix(text, "["):
					c.etag, text, ok = strings.Cut(text[1:], "]")
				}
				if !ok {
					return nil, errIf
				}
				one.conditions = append(one.conditions, c)
				text = strings.TrimSpace(text)
			}
			if text == "" || len(one.conditions) == 0 {
				return nil, errIf
			}
			text = text[1:]
			lists = append(lists, one)
		default:
			return nil, errIf
		}
	}
	if len(lists) == 0 {
		return nil, errIf
	}
	return lists, nil
}

var errPrecondition = status(http.StatusPreconditionFailed, "it is not as the request says that it should be")

// conditions holds the request's conditions against what is there; nil is nothing. GET and HEAD have theirs of
// RFC 9110 held by whoever sends the file.
func (c *call) conditions(info fs.FileInfo) error {
	if text := strings.Join(c.r.Header.Values("If"), " "); text != "" {
		lists, err := parseIf(text)
		if err != nil {
			return err
		}
		holds := false
		for _, l := range lists {
			for _, one := range l.conditions {
				if one.token != "" {
					c.tokens = append(c.tokens, one.token)
				}
			}
			ok, err := c.holds(l, info)
			if err != nil {
				return err
			}
			holds = holds || ok
		}
		if !holds {
			return errPrecondition
		}
	}
	if c.r.Method == http.MethodGet || c.r.Method == http.MethodHead {
		return nil
	}
	return exchange.Conditions(c.r, c.one.Tree, info)
}

// holds reports whether all conditions of a list do.
func (c *call) holds(l list, info fs.FileInfo) (bool, error) {
	at := c.at
	if l.resource != "" {
		u, err := url.Parse(l.resource)
		if err != nil {
			return false, errIf
		}
		var elsewhere error
		if at, _, elsewhere = pathOf(u.Path); elsewhere != nil || u.Host != "" && u.Host != c.r.Host {
			return false, nil
		}
		if info, err = c.there(at); err != nil {
			return false, nil
		}
	}
	var locks []keep.Lock
	if lies, err := c.one.Tree.Place(at, true); err == nil {
		over, err := c.one.visit.LocksOver(c.r.Context(), lies.Spot)
		if err != nil {
			return false, err
		}
		locks = covering(over, lies.Spot)
	}
	for _, one := range l.conditions {
		is := false
		if one.token != "" {
			is = slices.ContainsFunc(locks, func(l keep.Lock) bool { return l.Token == one.token })
		} else {
			is = info != nil && !info.IsDir() && exchange.SameTag(one.etag, c.one.Tree.Tag(info))
		}
		if is == one.not {
			return false, nil
		}
	}
	return true, nil
}

// covering are those of the locks on a spot and the folders that lead to it that hold for the spot.
func covering(locks []keep.Lock, at Spot) []keep.Lock {
	return slices.DeleteFunc(slices.Clone(locks), func(l keep.Lock) bool { return l.Path != at.Path && !l.Deep })
}

// held reports whether the request shows the token of one of some locks, or there are none.
func (c *call) held(locks []keep.Lock) bool {
	if len(locks) == 0 {
		return true
	}
	return slices.ContainsFunc(locks, func(l keep.Lock) bool { return l.Account == c.one.account && slices.Contains(c.tokens, l.Token) })
}

// locked is 423 (RFC 4918, section 11.3): it names what is locked, and whose token is to be shown.
type locked struct {
	at     string
	folder bool
	member bool // it lies below what is to be changed: 207 (RFC 4918, sections 9.6.1, 9.8.5 and 9.9.4)
}

func (l *locked) Error() string {
	return "it is locked: whoever locked it must unlock it, or the request must show the token"
}

// lockedBy is the refusal for locks of which no token was shown; below is what is to be changed, where they lie in it.
func (c *call) lockedBy(locks []keep.Lock, below string) error {
	refused := &locked{at: c.at, folder: c.folder}
	for _, l := range locks {
		at, known := c.one.Tree.PathTo(Spot{Store: l.Store, Path: l.Path})
		if !known || c.held([]keep.Lock{l}) {
			continue
		}
		if info, err := c.one.Tree.Stat(at); err == nil { // else the account does not see it
			return &locked{at, info.IsDir(), below != "" && at != below}
		}
	}
	return refused
}

// condition is the body of the answer (RFC 4918, section 16).
func (l *locked) condition() string {
	return "<d:error><d:lock-token-submitted><d:href>" + escape(href(l.at, l.folder)) + "</d:href></d:lock-token-submitted></d:error>"
}

// answer writes it.
func (l *locked) answer(w http.ResponseWriter) {
	if l.member {
		m := &multistatus{w: w}
		m.begin()
		m.out.WriteString("<d:response><d:href>" + escape(href(l.at, l.folder)) + "</d:href>" + statusLine(http.StatusLocked) + l.condition() + "</d:response>")
		m.end()
		return
	}
	w.Header().Set("Content-Type", xmlType)
	w.WriteHeader(http.StatusLocked)
	io.WriteString(w, xml1+strings.Replace(l.condition(), "<d:error>", `<d:error xmlns:d="DAV:">`, 1))
}

// change is what a request does to a path, as locks see it.
type change int

const (
	changed change = 0 // what is there stays there
	made    change = 1 // a name comes or goes in its folder
	deep    change = 2 // it changes with all that is below it
	own     change = 4 // of a link itself, not of what it leads to
	removed        = made | deep | own
)

// unlocked refuses to change what somebody has locked: what a path leads to, and the folder in which a name comes or goes.
func (c *call) unlocked(at string, how change) error {
	lies, err := c.one.Tree.Place(at, how&own == 0)
	if err != nil {
		return nil // nobody gets so far
	}
	spot := lies.Spot
	over, err := c.one.visit.LocksOver(c.r.Context(), spot)
	if err != nil {
		return err
	}
	if on := covering(over, spot); !c.held(on) {
		return c.lockedBy(on, "")
	}
	if how&made != 0 {
		var on []keep.Lock
		for _, l := range covering(over, spot.Folder()) {
			if l.Path != spot.Path {
				on = append(on, l)
			}
		}
		if !c.held(on) {
			return c.lockedBy(on, "")
		}
	}
	if how&deep != 0 {
		below, err := c.one.visit.LocksBelow(c.r.Context(), spot)
		if err != nil {
			return err
		}
		for _, l := range below {
			if !c.held([]keep.Lock{l}) {
				return c.lockedBy([]keep.Lock{l}, lies.Path)
			}
		}
	}
	return nil
}

// mayChange holds conditions and locks against a change of what is asked for; with member a name comes or goes.
func (c *call) mayChange(info fs.FileInfo, member bool) error {
	if err := c.conditions(info); err != nil {
		return err
	}
	if member {
		return c.unlocked(c.at, made)
	}
	return c.unlocked(c.at, changed)
}
