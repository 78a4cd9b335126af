package keep

import (
	"fmt"
	"path"
	"sort"
	"strings"
)

// Policy is what an account may do, prepared for many quick decisions. It is
// never changed after [NewPolicy]; a changed account gets a new one.
type Policy struct {
	mounts []Mount // deepest first
	grants []Grant // deepest first
	upload int64   // the largest file, bytes; 0: any size
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

// NewPolicy prepares the decisions for an account that has passed [Account.Check].
func NewPolicy(a *Account) *Policy {
	p := &Policy{mounts: append([]Mount(nil), a.Mounts...), grants: append([]Grant(nil), a.Grants...), upload: a.MaxUpload}
	if a.Anonymous() {
		for i := range p.grants {
			p.grants[i].Rights &= readOnly
		}
	}
	sort.SliceStable(p.mounts, func(i, j int) bool { return len(p.mounts[i].At) > len(p.mounts[j].At) })
	sort.SliceStable(p.grants, func(i, j int) bool { return len(p.grants[i].Path) > len(p.grants[j].Path) })
	return p
}

// Verdict is a decision and all that it rests on.
type Verdict struct {
	Allowed bool
	Reason  Reason // why not
	Right   Rights
	Path    string
	Grant   *Grant // the one that decided; nil: none covers the path
	Mount   *Mount // the one that holds the path; nil: none does
}

// Decide says whether the policy gives a right on a clean, absolute path.
//
// The rule, the same everywhere: the grant on the deepest folder that covers
// the path decides alone; where none covers it nothing is allowed; and a
// read-only mount allows nothing but list and download whatever the grants say.
func (p *Policy) Decide(right Rights, at string) Verdict {
	v := Verdict{Right: right, Path: at, Mount: p.MountOf(at)}
	for i := range p.grants {
		if Covers(p.grants[i].Path, at) {
			v.Grant = &p.grants[i]
			break
		}
	}
	switch {
	case v.Grant == nil || !v.Grant.Rights.Has(right):
		v.Reason = NoRight
	case v.Mount != nil && v.Mount.ReadOnly && !readOnly.Has(right):
		v.Reason = ReadOnlyMount
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
		return fmt.Sprintf("%s on %s is allowed: the grant on %s gives %s", right, v.Path, v.Grant.Path, v.Grant.Rights)
	case v.Reason == ReadOnlyMount:
		return fmt.Sprintf("%s is refused: %s is mounted read-only", right, v.Mount.At)
	case v.Grant == nil:
		return fmt.Sprintf("%s is refused: no grant covers %s", right, v.Path)
	default:
		return fmt.Sprintf("%s is refused: the grant on %s gives %s", right, v.Grant.Path, v.Grant.Rights)
	}
}

// Fault gives the refusal as an error, nil when the right is allowed.
func (v Verdict) Fault() error {
	if v.Allowed {
		return nil
	}
	return Refuse(v.Reason, v.String())
}

// Any reports whether some right is held on the path or anywhere below it: such
// a folder may be entered.
func (p *Policy) Any(at string) bool {
	for i := range p.grants {
		if p.grants[i].Rights == 0 {
			continue
		}
		if Covers(at, p.grants[i].Path) {
			return true
		}
		if Covers(p.grants[i].Path, at) {
			return p.Decide(0, at).Grant.Rights != 0
		}
	}
	return false
}

// Mounts lists the mounts, deepest path first.
func (p *Policy) Mounts() []Mount { return p.mounts }

// Uniform reports whether one grant decides for everything in a mount, so that
// a symbolic link inside it can't lead from one grant's ground to another's.
func (p *Policy) Uniform(mountAt string) bool {
	for i := range p.grants {
		if at := p.grants[i].Path; at != mountAt && Covers(mountAt, at) && p.MountOf(at).At == mountAt {
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
	seen := map[string]bool{}
	var names []string
	for i := range p.mounts {
		at := p.mounts[i].At
		if at == folder || !Covers(folder, at) {
			continue
		}
		name, _, _ := strings.Cut(strings.TrimPrefix(at[len(folder):], "/"), "/")
		if !seen[name] {
			seen[name] = true
			names = append(names, name)
		}
	}
	sort.Strings(names)
	return names
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
// relative names starting at the folder cwd. It can't leave "/".
func CleanPath(cwd, name string) (string, error) {
	if len(name) > MaxPathLength {
		return "", Refuse(BadName, "the name is too long")
	}
	if err := CheckPathName(name); err != nil {
		return "", err
	}
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
	for i := range p.grants {
		if Covers(at, p.grants[i].Path) {
			return true
		}
	}
	return false
}
