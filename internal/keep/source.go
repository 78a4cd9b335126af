package keep

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"
)

// SourceKind is how a source says who somebody is.
type SourceKind string

// The kinds of sources.
const (
	OwnKind       SourceKind = "own"       // the records of this service
	DirectoryKind SourceKind = "directory" // LDAP (RFC 4511)
	RadiusKind    SourceKind = "radius"    // RADIUS (RFC 2865)
	SSOKind       SourceKind = "sso"       // single sign-on in a browser
)

// OwnSource is the source that is always there: the service's own records.
const OwnSource = "own"

// AwayRule says what happens while a source can't be asked.
type AwayRule string

// The rules.
const (
	AwayRefuse AwayRule = "refuse" // nobody signs in whom it must vouch for
	AwayRecent AwayRule = "recent" // who was let in a short while ago is let in with the same password
)

// GroupRow of a table gives those who are in a group of the source a group here.
type GroupRow struct {
	Theirs string `json:"theirs"` // its DN, or its name; in any case of the letters
	Ours   string `json:"ours"`
}

// Source is who says whether somebody is who they say.
type Source struct {
	Name    string     `json:"name"`
	Kind    SourceKind `json:"kind"`
	Note    string     `json:"note,omitempty"`
	Off     bool       `json:"off,omitempty"` // it vouches for nobody
	Servers []string   `json:"servers"`       // the first that answers is asked: URLs of directories, HOST:PORT of RADIUS servers
	Timeout Seconds    `json:"timeout,omitempty"`
	Away    AwayRule   `json:"away,omitempty"`
	Recent  Seconds    `json:"recent,omitempty"` // how long ago, with AwayRecent
	Kept    bool       `json:"-"`                // while it is changed: the secret is the one that it had before
	Secret  Secret     `json:"-"`                // what the service proves itself with: its password, or the one it shares with the server

	Suffix  string     `json:"suffix,omitempty"`  // what stands behind its names here, as in @partner.example
	Every   Seconds    `json:"every,omitempty"`   // how often the whole of it is read and the accounts are kept in step; 0: they are not
	Leavers Count      `json:"leavers,omitempty"` // how many may be suspended at once without an operator
	Makes   bool       `json:"makes,omitempty"`   // an account is made at the first sign-in of who has none
	Groups  []string   `json:"groups,omitempty"`  // of who is in no group of the table
	Table   []GroupRow `json:"table,omitempty"`

	// Of directories, and the first two and the names of attributes of providers of single sign-on:
	Trust         string `json:"trust,omitempty"`  // certificates (PEM) that sign theirs; "": those of the system
	Plain         bool   `json:"plain,omitempty"`  // passwords may go there without TLS
	BindAs        string `json:"bindAs,omitempty"` // DN that looks people up; "": nobody
	Base          string `json:"base,omitempty"`   // DN below which people are
	People        string `json:"people,omitempty"` // filter (RFC 4515) of people
	NameAttribute string `json:"nameAttribute,omitempty"`
	MailAttribute string `json:"mailAttribute,omitempty"`
	KeyAttribute  string `json:"keyAttribute,omitempty"` // of SSH public keys; "": keys are not taken from there
	GroupBase     string `json:"groupBase,omitempty"`    // DN below which groups are; "": people's memberOf says their groups
	Nested        bool   `json:"nested,omitempty"`       // groups may hold groups

	// Of providers of single sign-on. NameAttribute and MailAttribute are claims there; without the first the name of a
	// SAML subject is taken.
	Standard       Standard  `json:"standard,omitempty"`
	Label          string    `json:"label,omitempty"`          // what people know it as
	KnownAs        string    `json:"knownAs,omitempty"`        // what it knows this service as: a client ID, an entity ID
	Metadata       string    `json:"metadata,omitempty"`       // its SAML metadata (XML), where no server gives that
	GroupAttribute string    `json:"groupAttribute,omitempty"` // claim that holds groups
	Scopes         []string  `json:"scopes,omitempty"`         // that are asked for besides openid
	Roles          []RoleRow `json:"roles,omitempty"`          // who becomes an operator; the first that fits counts
}

const (
	// MaxSources bounds the sources, MaxRoutes the routes.
	MaxSources, MaxRoutes = 50, 200
	// MaxSAML bounds a message or the metadata of a SAML provider, bytes.
	MaxSAML         = 256 << 10
	maxServers      = 5
	maxTable        = 1000
	maxRouteSources = 5
	usualAsk        = Seconds(2)
	usualLeavers    = 20
	leastEvery      = 60
	maxLabel        = 100
	usualRecent     = Seconds(12 * time.Hour / time.Second)
	maxRecent       = 7 * 24 * time.Hour
	maxDN           = 1000
)

// Check reports what is wrong as a [*FieldError], and fills in what is usual.
func (s *Source) Check() error {
	if err := CheckName("name", s.Name); err != nil {
		return err
	}
	if strings.EqualFold(s.Name, OwnSource) {
		return &FieldError{"name", "own is the name of this service's own records: choose another"}
	}
	if len(s.Note) > maxNotes {
		return &FieldError{"note", fmt.Sprintf("use at most %d bytes", maxNotes)}
	}
	if s.Timeout == 0 {
		s.Timeout = usualAsk
	}
	if s.Timeout < 1 || s.Timeout > 30 {
		return &FieldError{"timeout", "use 1s to 30s"}
	}
	switch {
	case s.Away == "":
		s.Away = AwayRefuse
	case s.Away != AwayRefuse && s.Away != AwayRecent:
		return &FieldError{"away", fmt.Sprintf("%q is not known: use refuse, or recent for who was let in a short while ago", s.Away)}
	}
	if s.Away == AwayRefuse {
		s.Recent = 0
	} else if s.Recent == 0 {
		s.Recent = usualRecent
	}
	if s.Recent < 0 || s.Recent.Duration() > maxRecent {
		return &FieldError{"recent", "use 1s to 7d"}
	}
	if s.Every != 0 && (s.Kind != DirectoryKind || s.Every < leastEvery || s.Every.Duration() > maxRecent) {
		return &FieldError{"every", "use 1m to 7d, for a directory; 0 for never"}
	}
	if s.Leavers == 0 {
		s.Leavers = usualLeavers
	}
	if s.Suffix != "" && CheckName("suffix", "a"+s.Suffix) != nil {
		return &FieldError{"suffix", fmt.Sprintf("%q can't end a name: use the form @partner.example", s.Suffix)}
	}
	if fewest := map[bool]int{false: 1}[s.Metadata != ""]; len(s.Servers) < fewest || len(s.Servers) > maxServers {
		return &FieldError{"servers", fmt.Sprintf("name 1 to %d servers, which are asked in that order", maxServers)}
	}
	if len(s.Table) > maxTable {
		return &FieldError{"table", fmt.Sprintf("use at most %d rows", maxTable)}
	}
	for _, row := range s.Table {
		if row.Theirs == "" || row.Ours == "" || len(row.Theirs) > maxDN {
			return &FieldError{"table", "a row names a group of theirs and one of ours, as in cn=crews,ou=groups,dc=port-selwyn,dc=example=crews"}
		}
	}
	switch s.Kind {
	case DirectoryKind:
		return s.checkDirectory()
	case RadiusKind:
		return s.checkRadius()
	case SSOKind:
		return s.checkSSO()
	}
	return &FieldError{"kind", fmt.Sprintf("%q is not known: use directory, radius or sso", s.Kind)}
}

func (s *Source) checkDirectory() error {
	if err := s.noneOf(SSOKind); err != nil {
		return err
	}
	for _, server := range s.Servers {
		u, err := url.Parse(server)
		if err != nil || u.Scheme != "ldaps" && u.Scheme != "ldap" || u.Hostname() == "" || u.User != nil || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
			return &FieldError{"servers", fmt.Sprintf("%q is no directory: use ldaps://HOST, or ldap://HOST where TLS begins after the connection (StartTLS)", server)}
		}
	}
	usual := func(field *string, what string) {
		if *field == "" {
			*field = what
		}
	}
	usual(&s.People, "(objectClass=person)")
	usual(&s.NameAttribute, "uid")
	usual(&s.MailAttribute, "mail")
	if !strings.HasPrefix(s.People, "(") || !strings.HasSuffix(s.People, ")") || len(s.People) > maxDN {
		return &FieldError{"people", "use a filter in parentheses, as in (objectClass=person)"}
	}
	if err := s.checkAttributes("-;."); err != nil {
		return err
	}
	for field, dn := range map[string]string{"base": s.Base, "groupBase": s.GroupBase, "bindAs": s.BindAs} {
		if dn != "" && field != "bindAs" && !strings.Contains(dn, "=") || len(dn) > maxDN || strings.ContainsFunc(dn, unicode.IsControl) {
			return &FieldError{field, fmt.Sprintf("%q is no distinguished name: use the form ou=people,dc=port-selwyn,dc=example", dn)}
		}
	}
	switch {
	case s.Base == "":
		return &FieldError{"base", "say below which entry people are, as in ou=people,dc=port-selwyn,dc=example"}
	case s.BindAs != "" && s.Secret == "":
		return &FieldError{"secret", "give the password of " + s.BindAs + ": without one a directory takes anybody for it"}
	case s.BindAs == "" && s.Secret != "":
		return &FieldError{"bindAs", "say whose password that is"}
	}
	return nil
}

// checkAttributes wants the names of attributes in letters, digits and what else a kind has in them.
func (s *Source) checkAttributes(besides string) error {
	for field, name := range map[string]string{"nameAttribute": s.NameAttribute, "mailAttribute": s.MailAttribute, "keyAttribute": s.KeyAttribute, "groupAttribute": s.GroupAttribute} {
		if len(name) > 200 || strings.ContainsFunc(name, func(r rune) bool {
			return r >= unicode.MaxASCII || !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(besides, r)
		}) {
			return &FieldError{field, fmt.Sprintf("%q is no attribute: use its name, as in uid", name)}
		}
	}
	return nil
}

// noneOf reports what is said of a source that only another kind has.
func (s *Source) noneOf(kind SourceKind) error {
	field := ""
	switch {
	case kind == DirectoryKind && (s.Base != "" || s.BindAs != "" || s.GroupBase != "" || s.KeyAttribute != "" || s.Nested || s.People != ""):
		field = cmp.Or(filled("base", s.Base), filled("bindAs", s.BindAs), filled("groupBase", s.GroupBase), filled("keyAttribute", s.KeyAttribute), filled("people", s.People), "nested")
	case kind == SSOKind && (s.Standard != "" || s.Label != "" || s.KnownAs != "" || s.Metadata != "" || s.GroupAttribute != "" || len(s.Scopes)+len(s.Roles) > 0):
		field = cmp.Or(filled("standard", string(s.Standard)), filled("label", s.Label), filled("knownAs", s.KnownAs), filled("metadata", s.Metadata), filled("groupAttribute", s.GroupAttribute), "roles")
	}
	if field == "" {
		return nil
	}
	return &FieldError{field, fmt.Sprintf("that is for sources of the kind %s, and this one is of the kind %s", kind, s.Kind)}
}

func filled(field, value string) string {
	if value == "" {
		return ""
	}
	return field
}

func (s *Source) checkRadius() error {
	if err := cmp.Or(s.noneOf(SSOKind), s.noneOf(DirectoryKind)); err != nil {
		return err
	}
	for _, server := range s.Servers {
		if host, port, err := splitAddress(server); err != nil || host == "" || port == 0 {
			return &FieldError{"servers", fmt.Sprintf("%q is no RADIUS server: use HOST:PORT, as in radius.port-selwyn.example:1812", server)}
		}
	}
	switch {
	case len(s.Secret) < 8:
		return &FieldError{"secret", "give the secret that the server knows this service by, of at least 8 characters"}
	case s.Trust != "" || s.Plain:
		return &FieldError{"trust", "RADIUS has no TLS: its secret protects passwords"}
	}
	return nil
}

// AskedAs is the name that the source knows an account by; ok is false where it knows none of that form. Nobody has two
// accounts so.
func (s *Source) AskedAs(name string) (theirs string, ok bool) {
	at := len(name) - len(s.Suffix)
	if at <= 0 || !strings.EqualFold(name[at:], s.Suffix) {
		return "", false
	}
	return name[:at], true
}

// CalledHere is the name here of who the source calls that.
func (s *Source) CalledHere(theirs string) string { return theirs + s.Suffix }

// GroupsFor are the groups of who is in groups of the source, in the order of the table.
func (s *Source) GroupsFor(theirs []string) []string {
	var found []string
	for _, row := range s.Table {
		if !slices.Contains(found, row.Ours) && isIn(theirs, row.Theirs) {
			found = append(found, row.Ours)
		}
	}
	if found == nil {
		return s.Groups
	}
	return found
}

// isIn reports whether one of the groups is meant by a DN or a name.
func isIn(groups []string, name string) bool {
	return slices.ContainsFunc(groups, func(g string) bool { return strings.EqualFold(g, name) || strings.EqualFold(firstValue(g), name) })
}

// firstValue is the crews of cn=crews,ou=groups.
func firstValue(dn string) string {
	first, _, _ := strings.Cut(dn, ",")
	if _, value, ok := strings.Cut(first, "="); ok {
		return value
	}
	return dn
}
