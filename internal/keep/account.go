package keep

import (
	"fmt"
	"path"
	"strings"
	"time"
	"unicode"
)

// State says whether an account may sign in.
type State string

// The states of an account.
const (
	StateActive    State = "active"
	StateSuspended State = "suspended"
)

// Account is who signs in to move files: a person or a machine.
type Account struct {
	ID           int64
	Name         string
	Note         string
	State        State
	PasswordHash Secret // argon2id in PHC form; empty: no password
	SignInBy     Proofs
	AllowPlain   bool      // may sign in over FTP without TLS, whatever the listener says
	ValidFrom    time.Time // zero: always
	ValidUntil   time.Time // zero: for ever
	MaxSessions  int       // at once; 0: any number
	MaxUpload    int64     // the largest file it may write, bytes; 0: any size
	Mounts       []Mount
	Grants       []Grant
	Created      time.Time
	Changed      time.Time
	LastSignIn   time.Time // zero: never
}

// Closed says why the account may not be used at a time; nil when it may.
func (a *Account) Closed(now time.Time) *Fault {
	const form = "2006-01-02 15:04 MST"
	switch {
	case a.State != StateActive:
		return Refuse(Suspended, "the account is suspended")
	case now.Before(a.ValidFrom):
		return Refuse(NotYetValid, "the account's time begins on "+a.ValidFrom.UTC().Format(form))
	case !a.ValidUntil.IsZero() && !now.Before(a.ValidUntil):
		return Refuse(Expired, "the account's time ended on "+a.ValidUntil.UTC().Format(form))
	}
	return nil
}

// Mount is one line of an account's tree: at this path, this store, this
// folder in it.
type Mount struct {
	At       string `json:"at"`       // clean, absolute path of the tree
	Store    string `json:"store"`    // name of a store
	Folder   string `json:"folder"`   // relative folder in the store, "/" for all of it; {account} stands for the name
	ReadOnly bool   `json:"readOnly"` // refuses every change whatever the grants say
}

// Grant gives rights on a path of the tree and everything below it.
type Grant struct {
	Path   string `json:"path"`
	Rights Rights `json:"rights"`
}

// MaxNameLength bounds the names of accounts, stores and operators: they
// become folder names, and some file systems stop at 64 UTF-16 units.
const MaxNameLength = 64

// NameRule is the rule that [CheckName] enforces, for people.
const NameRule = "1 to 64 letters, digits, '.', '_', '-', '@' or '+', starting with a letter or a digit and not ending in a dot"

// CheckName enforces [NameRule]: such a name is one folder name on every
// system, never hidden, never a path and never an option of a command.
func CheckName(field, name string) error {
	ok := name != "" && len(name) <= MaxNameLength && !strings.HasSuffix(name, ".")
	for i, r := range name {
		letter := r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r))
		if !letter && (i == 0 || !strings.ContainsRune("._-@+", r)) {
			ok = false
		}
	}
	if !ok || reservedNames[strings.ToLower(strings.SplitN(name, ".", 2)[0])] {
		return &FieldError{field, fmt.Sprintf("%q can't be used; a name is %s", name, NameRule)}
	}
	return nil
}

// reservedNames can't be folder names on Windows.
var reservedNames = map[string]bool{"con": true, "prn": true, "aux": true, "nul": true}

// Check reports what is wrong with the account as a [*FieldError], and brings
// paths into their clean form.
func (a *Account) Check() error {
	if err := CheckName("name", a.Name); err != nil {
		return err
	}
	if a.State != StateActive && a.State != StateSuspended {
		return &FieldError{"state", fmt.Sprintf("%q is not a state: use active or suspended", a.State)}
	}
	if !a.ValidFrom.IsZero() && !a.ValidUntil.IsZero() && !a.ValidFrom.Before(a.ValidUntil) {
		return &FieldError{"validUntil", "the account's time would end before it begins: give a later end"}
	}
	if a.MaxSessions < 0 {
		return &FieldError{"maxSessions", "it can't be negative: 0 is any number"}
	}
	if a.MaxUpload < 0 {
		return &FieldError{"maxUpload", "it can't be negative: 0 is any size"}
	}
	if a.SignInBy == "" {
		a.SignInBy = DefaultProofs
	}
	if err := a.SignInBy.check(); err != nil {
		return err
	}
	if err := a.checkAnonymous(); err != nil {
		return err
	}
	if err := a.checkMounts(); err != nil {
		return err
	}
	for i := range a.Grants {
		g := &a.Grants[i]
		if !strings.HasPrefix(g.Path, "/") {
			return &FieldError{"grants", fmt.Sprintf("the path %q must begin with a slash", g.Path)}
		}
		g.Path = path.Clean(g.Path)
		for _, other := range a.Grants[:i] {
			if other.Path == g.Path {
				return &FieldError{"grants", fmt.Sprintf("two grants on %s: join their rights in one", g.Path)}
			}
		}
	}
	return nil
}

func (a *Account) checkMounts() error {
	home := false
	for i := range a.Mounts {
		m := &a.Mounts[i]
		if err := m.check(); err != nil {
			return err
		}
		for _, other := range a.Mounts[:i] {
			if other.At == m.At {
				return &FieldError{"mounts", fmt.Sprintf("two mounts at %s: remove one", m.At)}
			}
		}
		home = home || m.At == "/"
	}
	if !home {
		return &FieldError{"home", "a home is always explicit: name a store and a folder in it, as in files:{account}"}
	}
	return nil
}

func (m *Mount) check() error {
	if !strings.HasPrefix(m.At, "/") || CheckPathName(m.At) != nil {
		return &FieldError{"mounts", fmt.Sprintf("the path %q must begin with a slash and hold no control characters", m.At)}
	}
	m.At = path.Clean(m.At)
	field := "mounts"
	if m.At == "/" {
		field = "home"
	}
	if err := CheckName(field, m.Store); err != nil {
		return err
	}
	folder := m.Folder
	if folder == "" {
		return &FieldError{field, "the folder is empty: name one, as in files:{account}, or say files:/ for the whole store"}
	}
	for part := range strings.SplitSeq(strings.Trim(folder, "/"), "/") {
		if part == ".." || part == "." || CheckPathName(part) != nil || strings.ContainsRune(part, '\\') {
			return &FieldError{field, fmt.Sprintf("the folder %q must be plain folder names joined by slashes", folder)}
		}
		plain := strings.ReplaceAll(part, "{account}", "")
		if strings.ContainsAny(plain, "{}") {
			return &FieldError{field, fmt.Sprintf("the folder %q has an unknown placeholder: {account} is the one there is", folder)}
		}
	}
	m.Folder = path.Clean("/" + folder)[1:]
	if m.Folder == "" {
		m.Folder = "/"
	}
	return nil
}

// FolderFor is the mount's folder in its store for one account, relative and
// slash-separated, "." for the whole store.
func (m Mount) FolderFor(account string) string {
	if m.Folder == "/" {
		return "."
	}
	return strings.ReplaceAll(m.Folder, "{account}", account)
}

// ParseMount reads "AT=STORE:FOLDER", with ",ro" behind it for a read-only mount.
func ParseMount(text string) (Mount, error) {
	at, place, ok := strings.Cut(text, "=")
	if !ok {
		return Mount{}, &FieldError{"mount", fmt.Sprintf("%q is not AT=STORE:FOLDER, as in /basemaps=files:shared/basemaps", text)}
	}
	place, readOnly := strings.CutSuffix(place, ",ro")
	m, err := ParsePlace("mount", place)
	m.At, m.ReadOnly = at, readOnly
	return m, err
}

// ParsePlace reads "STORE:FOLDER" into a mount at "/".
func ParsePlace(field, text string) (Mount, error) {
	storeName, folder, ok := strings.Cut(text, ":")
	if !ok || folder == "" {
		return Mount{}, &FieldError{field, fmt.Sprintf("%q is not STORE:FOLDER, as in files:{account}; files:/ is the whole store", text)}
	}
	return Mount{At: "/", Store: storeName, Folder: folder}, nil
}
