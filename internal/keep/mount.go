package keep

import (
	"encoding/json"
	"fmt"
	"path"
	"strings"
)

// Mount is one line of an account's tree: at this path, this store, this
// folder in it.
type Mount struct {
	At        string   `json:"at"`       // clean, absolute path of the tree
	Store     string   `json:"store"`    // name of a store
	Folder    string   `json:"folder"`   // relative folder in the store, "/" for all of it; {account} and {group} stand for the names
	ReadOnly  bool     `json:"readOnly"` // refuses every change whatever the grants say
	Umask     *Mode    `json:"umask,omitempty"`
	Quota     *Quota   `json:"quota,omitempty"`     // most that the folder may hold
	Protocols Ways     `json:"protocols,omitempty"` // over which it is there; none: all
	Check     *Check   `json:"check,omitempty"`     // new uploads are held back until it says yes; nil: they aren't
	absent    Protocol // it is not there over this one, which is asked about; "": it is. See [Effective.Over]
	From      string   `json:"-"` // the group that brings it, "" for the account itself
}

// Quota is the most that a place may hold; 0 is any.
type Quota struct {
	Bytes Bytes `json:"bytes"`
	Files Count `json:"files"` // entries with a name: files, links and folders
}

// Limited reports whether it limits anything.
func (q *Quota) Limited() bool { return q != nil && (q.Bytes > 0 || q.Files > 0) }

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
		if strings.ContainsAny(strings.NewReplacer("{account}", "", "{group}", "").Replace(part), "{}") {
			return &FieldError{field, fmt.Sprintf("the folder %q has an unknown placeholder: there are {account} and {group}", folder)}
		}
	}
	if err := m.Protocols.check(); err != nil {
		return &FieldError{field, err.Error()}
	}
	if m.Check != nil {
		if err := m.Check.check(); err != nil {
			return err
		}
	}
	m.Folder = path.Clean("/" + folder)[1:]
	if m.Folder == "" {
		m.Folder = "/"
	}
	return nil
}

// checkMounts checks each, and that no two are at one path.
func checkMounts(mounts []Mount) error {
	seen := map[string]bool{}
	for i := range mounts {
		m := &mounts[i]
		if err := m.check(); err != nil {
			return err
		}
		if seen[m.At] {
			return &FieldError{"mounts", fmt.Sprintf("two mounts at %s: each path can hold one", m.At)}
		}
		seen[m.At] = true
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

// ParseMount reads "AT=STORE:FOLDER" with options behind it, joined by commas: ro,
// umask=007, bytes=2G, files=1000, protocols=sftp+ftp:ro, and those of a [Check].
func ParseMount(text string) (Mount, error) {
	at, place, ok := strings.Cut(text, "=")
	if !ok {
		return Mount{}, &FieldError{"mount", fmt.Sprintf("%q is not AT=STORE:FOLDER, as in /basemaps=files:shared/basemaps", text)}
	}
	place, options, _ := strings.Cut(place, ",")
	m, err := ParsePlace("mount", place)
	m.At = at
	if err != nil {
		return m, err
	}
	var quota Quota
	var check Check
	for _, option := range words(options) {
		name, value, _ := strings.Cut(option, "=")
		switch name {
		case "ro":
			m.ReadOnly = true
		case "umask":
			m.Umask = new(Mode)
			err = m.Umask.UnmarshalText([]byte(value))
		case "bytes":
			err = quota.Bytes.UnmarshalText([]byte(value))
		case "files":
			err = quota.Files.UnmarshalText([]byte(value))
		case "protocols":
			m.Protocols, err = parseWays(value)
		case "check":
			check.Receiver = value
		case "check-time":
			err = check.Within.UnmarshalText([]byte(value))
		case "unanswered":
			check.Unanswered = CheckAnswer(value)
		case "refused":
			check.Refused = value
		default:
			err = fmt.Errorf("%q is not known: use ro, umask=007, bytes=2G, files=1000, protocols=sftp+ftp:ro, check=RECEIVER, check-time=10m, unanswered=yes or refused=FOLDER", option)
		}
		if err != nil {
			return m, &FieldError{"mount", err.Error()}
		}
	}
	if quota.Limited() {
		m.Quota = &quota
	}
	if check != (Check{}) {
		m.Check = &check
	}
	return m, nil
}

// UnmarshalJSON reads an object, or what [ParseMount] reads.
func (m *Mount) UnmarshalJSON(raw []byte) (err error) {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		*m, err = ParseMount(text)
		return err
	}
	type plain Mount
	return strictly(raw, (*plain)(m))
}

// Options says the mount's options as [ParseMount] reads them, "" for none.
func (m Mount) Options() string {
	var said []string
	if m.ReadOnly {
		said = append(said, "ro")
	}
	if m.Umask != nil {
		text, _ := m.Umask.MarshalText()
		said = append(said, "umask="+string(text))
	}
	if m.Quota != nil && m.Quota.Bytes > 0 {
		said = append(said, fmt.Sprintf("bytes=%d", m.Quota.Bytes))
	}
	if m.Quota != nil && m.Quota.Files > 0 {
		said = append(said, fmt.Sprintf("files=%d", m.Quota.Files))
	}
	if len(m.Protocols) > 0 {
		said = append(said, "protocols="+strings.Join(m.Protocols, "+"))
	}
	if c := m.Check; c != nil {
		said = append(said, "check="+c.Receiver)
		if c.Within > 0 {
			said = append(said, "check-time="+c.Within.text())
		}
		if c.Unanswered != "" {
			said = append(said, "unanswered="+string(c.Unanswered))
		}
		if c.Refused != "" {
			said = append(said, "refused="+c.Refused)
		}
	}
	return strings.Join(said, ",")
}

// Text is the mount as [ParseMount] reads it.
func (m Mount) Text() string {
	text := m.At + "=" + m.Store + ":" + m.Folder
	if options := m.Options(); options != "" {
		text += "," + options
	}
	return text
}

// ParsePlace reads "STORE:FOLDER" into a mount at "/".
func ParsePlace(field, text string) (Mount, error) {
	storeName, folder, ok := strings.Cut(text, ":")
	if !ok || folder == "" {
		return Mount{}, &FieldError{field, fmt.Sprintf("%q is not STORE:FOLDER, as in files:{account}; files:/ is the whole store", text)}
	}
	return Mount{At: "/", Store: storeName, Folder: folder}, nil
}
