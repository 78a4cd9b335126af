package keep

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
	"time"
)

// Policy is what an account may do, prepared for many quick decisions. It is
// never changed after [NewPolicy]; a changed account gets a new one.
type Policy struct {
	mounts  []Mount  // deepest first
	grounds []ground // deepest first
	upload  int64    // the largest file, bytes; 0: any size
	umask   Mode
	idle    time.Duration
	bin     time.Duration
	scope   *Scope // nil: all that the account may
	over    Protocols
}

// ground is a folder with grants on it.
type ground struct {
	path   string
	grants []prepared
}

type prepared struct {
	Grant
	times *times // nil: always
}

// counts says why a grant does not count for a name at a time, "" when it does.
// An empty name is a folder, which no filter is held against.
func (g *prepared) counts(name string, now time.Time) string {
	switch {
	case name != "" && (likeAny(g.Never, name) || len(g.Never) > 0 && likeAny(g.Never, windowsName(name))):
		return "does not count for a name like this"
	case name != "" && len(g.Only) > 0 && !likeAny(g.Only, name):
		return "does not count for a name like this"
	case g.times != nil && !g.times.open(now):
		return "does not count at this time"
	}
	return ""
}

// windowsName is the name under which Windows would save a file: without what follows a colon, which names a stream of it, and
// without dots and spaces at its end.
func windowsName(name string) string {
	short, _, _ := strings.Cut(name, ":")
	if short = strings.TrimRight(short, ". "); short == "" {
		return name
	}
	return short
}

// Fits is how many of n bytes at an offset the account may write.
func (p *Policy) Fits(offset int64, n int) int {
	if p.upload == 0 {
		return n
	}
	return int(min(int64(n), max(0, p.upload-offset)))
}

// SizeLimited reports whether there is a largest file.
func (p *Policy) SizeLimited() bool { return p.upload > 0 }

// CheckSize refuses a file that would become larger than the account may write.
func (p *Policy) CheckSize(bytes int64) error {
	if p.upload > 0 && bytes > p.upload {
		return Refuse(TooLarge, fmt.Sprintf("a file of this account may have %d bytes at most; what fits is kept", p.upload))
	}
	return nil
}

// Idle is how long a session may do nothing; 0 is the usual time.
func (p *Policy) Idle() time.Duration { return p.idle }

// BinTime is how long what is deleted can be put back; 0: it is gone.
func (p *Policy) BinTime() time.Duration { return p.bin }

// Umask is the mask for new files and folders in a mount.
func (p *Policy) Umask(m *Mount) Mode {
	if m != nil && m.Umask != nil {
		return *m.Umask
	}
	return p.umask
}

// MayUse reports whether a protocol may be used.
func (p *Policy) MayUse(one Protocol) bool { return p.over.Has(one) }

// NewPolicy prepares the decisions for an account.
func NewPolicy(e *Effective) *Policy {
	p := &Policy{mounts: append([]Mount(nil), e.Mounts...), upload: int64(e.MaxUpload), umask: e.Terms.Umask, idle: e.IdleTime.Duration(), bin: e.BinTime.Duration(), scope: e.scope, over: e.Protocols}
	sort.SliceStable(p.mounts, func(i, j int) bool { return len(p.mounts[i].At) > len(p.mounts[j].At) })
	for _, g := range e.Grants {
		ready := prepared{Grant: g}
		if g.Window != nil {
			times, err := g.Window.prepare()
			if err != nil {
				continue // it was refused at save; what can't be understood gives nothing
			}
			ready.times = times
		}
		at := slices.IndexFunc(p.grounds, func(there ground) bool { return there.path == g.Path })
		if at < 0 {
			at = len(p.grounds)
			p.grounds = append(p.grounds, ground{path: g.Path})
		}
		p.grounds[at].grants = append(p.grounds[at].grants, ready)
	}
	sort.SliceStable(p.grounds, func(i, j int) bool { return len(p.grounds[i].path) > len(p.grounds[j].path) })
	return p
}

// Verdict is a decision and all that it rests on.
type Verdict struct {
	Allowed bool
	Reason  Reason // why not
	Right   Rights
	Path    string
	Mount   *Mount // the one that holds the path; nil: none does

	ground *ground // the folder whose grants decided; nil: none covers the path
	name   string  // what filters were held against, "" for a folder
	now    time.Time
	scope  *Scope // when it is what refuses
}

// onFolders are the rights whose path is a folder, so that no filter is held
// against its name.
const onFolders = List | Mkdir | Rmdir

// Decide says whether the policy gives a right on a clean, absolute path at a time.
//
// The rule, the same everywhere: go up from the path to the first folder that has
// grants, the path itself among them. The grants on it decide, no other: the
// account's own, or where it has none there those of its groups (see [Resolve]). Those
// that count for the file's name and at this time add up. Where no folder on the
// way has a grant nothing is allowed; and a read-only mount allows nothing but
// list and download whatever the grants say. Filters are held against the names
// of files: list, mkdir and rmdir don't look at them.
func (p *Policy) Decide(right Rights, at string, now time.Time) Verdict {
	name := ""
	if right&^onFolders != 0 {
		name = path.Base(at)
	}
	return p.decide(right, at, name, now)
}

// See decides whether the facts of an entry may be seen in a listing: of a folder
// when there is any right at or below it, of a file when it may be listed.
func (p *Policy) See(at string, folder bool, now time.Time) Verdict {
	if folder {
		v := p.decide(0, at, "", now)
		if v.Right = List; !p.Any(at) {
			v.Allowed, v.Reason = false, NoRight
		}
		return v
	}
	return p.decide(List, at, path.Base(at), now)
}

func (p *Policy) decide(right Rights, at, name string, now time.Time) Verdict {
	v := Verdict{Right: right, Path: at, Mount: p.MountOf(at), name: name, now: now}
	var given Rights
	for i := range p.grounds {
		if Covers(p.grounds[i].path, at) {
			v.ground = &p.grounds[i]
			break
		}
	}
	if v.ground != nil {
		for i := range v.ground.grants {
			if g := &v.ground.grants[i]; g.counts(name, now) == "" {
				given |= g.Rights
			}
		}
	}
	switch {
	case v.Mount != nil && v.Mount.absent != "":
		v.Reason = ProtocolRefused
	case v.ground == nil || !given.Has(right):
		v.Reason = NoRight
	case v.Mount != nil && v.Mount.ReadOnly && !readOnly.Has(right):
		v.Reason = ReadOnlyMount
	case !p.scope.holds(right, at):
		v.Reason, v.scope = NoRight, p.scope
	default:
		v.Allowed = true
	}
	return v
}

// String says the verdict in a sentence that names only paths of the tree.
func (v Verdict) String() string {
	right := strings.Join(v.Right.Names(), ",") // one right, not the bundle of one
	switch {
	case v.Allowed:
		return fmt.Sprintf("%s on %s is allowed: %s", right, v.Path, v.because(func(*prepared) string { return "" }))
	case v.scope != nil:
		return fmt.Sprintf("%s on %s is refused: only %s is given here", right, v.Path, v.scope)
	case v.Reason == ReadOnlyMount:
		return fmt.Sprintf("%s is refused: %s is mounted read-only", right, v.Mount.At)
	case v.Reason == ProtocolRefused:
		return fmt.Sprintf("%s is refused: %s is not there over %s", right, v.Mount.At, v.Mount.absent)
	case v.ground == nil:
		return fmt.Sprintf("%s is refused: no grant covers %s", right, v.Path)
	}
	return fmt.Sprintf("%s is refused: %s", right, v.because(func(*prepared) string { return "" }))
}

// Explain says the verdict to operators: with the groups that the grants are from.
func (v Verdict) Explain() string {
	text := v.String()
	if v.ground == nil || v.scope != nil || v.Reason == ReadOnlyMount || v.Reason == ProtocolRefused {
		return text
	}
	head, _, _ := strings.Cut(text, ": ")
	return head + ": " + v.because(func(g *prepared) string {
		if g.From == "" {
			return ""
		}
		return " (group " + g.From + ")"
	})
}

// because says what each grant of the deciding folder does to the question.
func (v Verdict) because(origin func(*prepared) string) string {
	var said []string
	for i := range v.ground.grants {
		g := &v.ground.grants[i]
		text := fmt.Sprintf("the grant on %s gives %s", g.Path, g.Rights)
		if i > 0 {
			text = fmt.Sprintf("another gives %s", g.Rights)
		}
		if conditions := g.conditions(); conditions != "" {
			text += " " + conditions
		}
		text += origin(g)
		if not := g.counts(v.name, v.now); not != "" {
			text += ", which " + not
		}
		said = append(said, text)
	}
	return strings.Join(said, "; ")
}

// Fault gives the refusal as an error, nil when the right is allowed.
func (v Verdict) Fault() error {
	if v.Allowed {
		return nil
	}
	return Refuse(v.Reason, v.String())
}

// Any reports whether some right is held on the path or anywhere below it, at
// some time and for some names: such a folder may be entered.
func (p *Policy) Any(at string) bool {
	if m := p.MountOf(at); !p.scope.leads(at) || m != nil && m.absent != "" && len(p.Branches(at)) == 0 {
		return false
	}
	decided := false
	for i := range p.grounds {
		g := &p.grounds[i]
		deciding := !decided && Covers(g.path, at)
		decided = decided || deciding
		if !deciding && !Covers(at, g.path) {
			continue
		}
		for n := range g.grants {
			if g.grants[n].Rights != 0 {
				return true
			}
		}
	}
	return false
}

// Narrowed reports whether somebody is held to a scope in which a right on a path does not lie.
func (p *Policy) Narrowed(right Rights, at string) bool { return !p.scope.holds(right, at) }

// Mounts lists the mounts, deepest path first.
func (p *Policy) Mounts() []Mount { return p.mounts }

// Plain reports whether one decision holds for everything right in a folder: no grants lie
// below it, and those that decide look at no name.
func (p *Policy) Plain(folder string) bool {
	decided := false
	for i := range p.grounds {
		g := &p.grounds[i]
		if g.path != folder && Covers(folder, g.path) {
			return false
		}
		if decided || !Covers(g.path, folder) {
			continue
		}
		decided = true
		for n := range g.grants {
			if len(g.grants[n].Only) > 0 || len(g.grants[n].Never) > 0 {
				return false
			}
		}
	}
	return true
}

// Alike reports whether the same grants count for two paths at all times, in the same
// mount: then a second name for a file gives no more than the first one does.
func (p *Policy) Alike(a, b string) bool {
	one, two := p.decide(0, a, path.Base(a), time.Time{}), p.decide(0, b, path.Base(b), time.Time{})
	if one.ground != two.ground || one.ground == nil || one.Mount != two.Mount {
		return false
	}
	for i := range one.ground.grants {
		g := one.ground.grants[i]
		g.times = nil
		if (g.counts(one.name, time.Time{}) == "") != (g.counts(two.name, time.Time{}) == "") {
			return false
		}
	}
	return true
}

// MountOf is the mount that holds a path; nil when none does.
func (p *Policy) MountOf(at string) *Mount {
	for i := range p.mounts {
		if Covers(p.mounts[i].At, at) {
			return &p.mounts[i]
		}
	}
	return nil
}

// Branches names what the mounts add to the listing of a folder: the next part
// of the path of each mount below it, sorted, each once.
func (p *Policy) Branches(folder string) []string {
	return p.below(folder, func(m *Mount, _ bool) bool { return m.absent == "" })
}

// Absent names what stands in a folder for mounts that are not there over the protocol of the session.
func (p *Policy) Absent(folder string) []string {
	return p.below(folder, func(m *Mount, right bool) bool { return m.absent != "" && right })
}

// below names the next part of the path of each mount below a folder that counts, sorted, each once; right says that the mount
// is right in it.
func (p *Policy) below(folder string, counts func(m *Mount, right bool) bool) []string {
	var names []string
	for i := range p.mounts {
		m := &p.mounts[i]
		if m.At == folder || !Covers(folder, m.At) {
			continue
		}
		name, more, _ := strings.Cut(strings.TrimPrefix(m.At[len(folder):], "/"), "/")
		if counts(m, more == "") {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Covers reports whether a clean absolute path is the folder or below it.
func Covers(folder, at string) bool {
	if folder == "/" {
		return true
	}
	return strings.HasPrefix(at, folder) && (len(at) == len(folder) || at[len(folder)] == '/')
}

// MaxPathLength stops a client from making the service hold and log paths that
// no file system could store.
const MaxPathLength = 4096

// CleanPath turns what a client sent into a clean absolute path of the tree,
// relative names starting at the folder cwd. It can't leave "/". Bytes that are not
// UTF-8 are spelled as [Spell] does.
func CleanPath(cwd, name string) (string, error) {
	if len(name) > MaxPathLength {
		return "", Refuse(BadName, "the name is too long")
	}
	if err := CheckPathName(name); err != nil {
		return "", err
	}
	name = spellBytes(name)
	if !strings.HasPrefix(name, "/") {
		name = cwd + "/" + name
	}
	return path.Clean("/" + name), nil
}

// CheckPathName refuses names that would break a listing or a log line: those
// with NUL, CR or LF.
func CheckPathName(name string) error {
	if strings.ContainsAny(name, "\x00\r\n") {
		return Refuse(BadName, "a name can't hold NUL, carriage return or line feed")
	}
	return nil
}

// Anchored reports whether a grant names the path or something below it: what
// a grant names stays where it is, or moving it would change who may do what.
func (p *Policy) Anchored(at string) bool {
	for i := range p.grounds {
		if Covers(at, p.grounds[i].path) {
			return true
		}
	}
	return false
}
