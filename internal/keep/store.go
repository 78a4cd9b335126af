package keep

import (
	"encoding/json"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"
)

// Store is a place where bytes live.
type Store struct {
	Name       string
	Kind       StoreKind
	Folder     string     // disk and sealed: absolute path on this machine; never shown to a client
	Mark       string     // the number that is in the folder's mark file; "": it has none yet
	Durability Durability // what an acknowledgement promises of what is in it
	Hashes     bool       // the trail holds the SHA-256 of each whole upload
	Previews   Previews   // whether small pictures are made of what is in it, and kept in the data folder
	Site       Site       // of other kinds than disk
	Secret     Secret     `json:"-"` // object: the secret key; blob: the account's key; remote: a password
}

// Previews says whether small pictures of a store's files are made.
type Previews string

// What can be said of previews; "" is by the store's kind.
const (
	PreviewsOn  Previews = "on"
	PreviewsOff Previews = "off"
)

// Draws reports whether small pictures are made of a store's files: of a sealed one's not by itself, since they are kept in clear.
func (s Store) Draws() bool {
	return s.Previews == PreviewsOn || s.Previews != PreviewsOff && s.Kind != Sealed
}

// StoreKind is what a store is made of.
type StoreKind string

// The kinds of stores.
const (
	Disk   StoreKind = "disk"
	Sealed StoreKind = "sealed"
	Object StoreKind = "object"
	Blob   StoreKind = "blob"
	Remote StoreKind = "remote"
)

// StoreKinds are all there are.
var StoreKinds = []StoreKind{Disk, Sealed, Object, Blob, Remote}

// Local reports whether a store is a folder of this machine.
func (s Store) Local() bool { return s.Kind == Disk || s.Kind == Sealed || s.Kind == "" }

// Where says in a word where a store lies, for operators.
func (s Store) Where() string {
	switch s.Kind {
	case Object, Blob:
		where := s.Site.Endpoint + "/" + s.Site.Bucket
		if s.Site.Prefix != "" {
			where += "/" + s.Site.Prefix
		}
		return where
	case Remote:
		return "sftp://" + s.Site.User + "@" + s.Site.Endpoint + s.Site.Folder
	}
	return s.Folder
}

// Site says where a store lies that isn't only a folder of this machine, and how it is reached. What a
// kind has no use for is empty.
type Site struct {
	Endpoint   string   `json:"endpoint,omitempty"`   // object, blob: the URL of the service; remote: HOST:PORT
	Bucket     string   `json:"bucket,omitempty"`     // object: bucket; blob: container
	Prefix     string   `json:"prefix,omitempty"`     // object, blob: what all names begin with, without the slash at its end
	Region     string   `json:"region,omitempty"`     // object
	HostStyle  bool     `json:"hostStyle,omitempty"`  // object: the bucket is part of the host's name, not of the path
	User       string   `json:"user,omitempty"`       // object: access key; blob: storage account; remote: who signs in
	SecretFrom string   `json:"secretFrom,omitempty"` // file:PATH or env:NAME, read when it is needed; "": the secret is kept
	HostKeys   []string `json:"hostKeys,omitempty"`   // remote: fingerprints, SHA256:…, of which one must be the server's
	KeyFile    string   `json:"keyFile,omitempty"`    // remote: a private key on this machine
	Folder     string   `json:"folder,omitempty"`     // remote: on the other server, from its root
	Recipients []string `json:"recipients,omitempty"` // sealed: who else can open the files, age1…
	SealNames  bool     `json:"sealNames,omitempty"`  // sealed: the names of files are encrypted too
	Key        string   `json:"key,omitempty"`        // sealed: file:PATH of the key, or passphrase; "": it is kept in the data folder
}

// Secret sources: where a secret lies that is not kept.
const (
	FromFile        = "file:"
	FromEnvironment = "env:"
	ByPassphrase    = "passphrase" // of a sealed store's key
)

// CheckSite says what is wrong with where a store lies, as a [*FieldError].
func (s Store) CheckSite() error {
	if !slices.Contains(StoreKinds, s.Kind) {
		return &FieldError{"kind", fmt.Sprintf("%q is no kind of store: use disk, sealed, object, blob or remote", s.Kind)}
	}
	used := map[StoreKind][]string{
		Sealed: {"recipients", "sealNames", "key"},
		Object: {"endpoint", "bucket", "prefix", "region", "hostStyle", "user", "secretFrom"},
		Blob:   {"endpoint", "bucket", "prefix", "user", "secretFrom"},
		Remote: {"endpoint", "folder", "user", "secretFrom", "hostKeys", "keyFile"},
	}[s.Kind]
	for _, name := range s.Site.said() {
		if !slices.Contains(used, name) {
			return &FieldError{name, "a store of kind " + string(s.Kind) + " has no use for that: leave it out"}
		}
	}
	if from := s.Site.SecretFrom; from != "" && !strings.HasPrefix(from, FromFile+"/") && !strings.HasPrefix(from, FromEnvironment) {
		return &FieldError{"secretFrom", "say file:/PATH or env:NAME"}
	}
	switch s.Kind {
	case Sealed:
		if k := s.Site.Key; k != "" && k != ByPassphrase && !strings.HasPrefix(k, FromFile+"/") {
			return &FieldError{"key", "say file:/PATH or passphrase; without it the key is kept in the data folder"}
		}
	case Object, Blob:
		return s.Site.checkBucket()
	case Remote:
		return s.Site.checkRemote()
	}
	return nil
}

// said lists what a site says, by the names of its fields.
func (s Site) said() (names []string) {
	for name, there := range map[string]bool{"endpoint": s.Endpoint != "", "bucket": s.Bucket != "", "prefix": s.Prefix != "", "region": s.Region != "", "hostStyle": s.HostStyle, "user": s.User != "",
		"secretFrom": s.SecretFrom != "", "hostKeys": len(s.HostKeys) > 0, "keyFile": s.KeyFile != "", "folder": s.Folder != "", "recipients": len(s.Recipients) > 0, "sealNames": s.SealNames, "key": s.Key != ""} {
		if there {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

func (s Site) checkBucket() error {
	at, err := url.Parse(s.Endpoint)
	switch {
	case err != nil || at.Scheme != "http" && at.Scheme != "https" || at.Host == "" || at.User != nil || at.RawQuery != "":
		return &FieldError{"endpoint", "say the URL of the service, as in https://objects.example.org"}
	case s.Bucket == "" || strings.ContainsAny(s.Bucket, "/\\ ?#"):
		return &FieldError{"bucket", "say the name of the bucket or container"}
	case s.User == "":
		return &FieldError{"user", "say the name that the secret belongs to: the access key, or the storage account"}
	case s.Prefix != "" && (path.Clean("/"+s.Prefix) != "/"+s.Prefix || strings.ContainsAny(s.Prefix, "\\\x00")):
		return &FieldError{"prefix", "say it as a path without a slash at its beginning or end, as in city/files"}
	}
	return nil
}

func (s Site) checkRemote() error {
	host, port, found := strings.Cut(s.Endpoint, ":")
	if strings.HasPrefix(s.Endpoint, "[") {
		host, port, found = strings.Cut(s.Endpoint, "]:")
	}
	switch {
	case !found || host == "" || port == "" || strings.Trim(port, "0123456789") != "":
		return &FieldError{"endpoint", "say HOST:PORT of the other SFTP server"}
	case s.User == "":
		return &FieldError{"user", "say who signs in to the other server"}
	case !path.IsAbs(s.Folder) || path.Clean(s.Folder) != s.Folder:
		return &FieldError{"folder", "say the folder on the other server, from its root on, as in /incoming"}
	case len(s.HostKeys) == 0:
		return &FieldError{"hostKeys", "say the fingerprint of the other server's host key (SHA256:…): ask who runs it; ssh-keyscan HOST | ssh-keygen -lf - shows what it claims"}
	}
	for _, k := range s.HostKeys {
		if !strings.HasPrefix(k, "SHA256:") {
			return &FieldError{"hostKeys", fmt.Sprintf("%q is no fingerprint: they begin with SHA256:", k)}
		}
	}
	return nil
}

// Scan reads a site from the records.
func (s *Site) Scan(value any) error {
	text, is := value.(string)
	if !is {
		return fmt.Errorf("the site of a store is a %T in the records", value)
	}
	return json.Unmarshal([]byte(text), s)
}

// Durability is what an acknowledgement promises.
type Durability string

// What is acknowledged outlives the end of the process, or that of the power too.
const (
	Process Durability = "process"
	Power   Durability = "power"
)

// Durabilities are all there are.
var Durabilities = []Durability{Process, Power}
