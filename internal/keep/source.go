package keep

import (
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
	Secret  Secret     `json:"-"`                // what the service proves itself with: its password, or the one it shares with the server

	Suffix  string     `json:"suffix,omitempty"`  // what stands behind its names here, as in @partner.example
	Every   Seconds    `json:"every,omitempty"`   // how often the whole of it is read and the accounts are kept in step; 0: they are not
	Leavers Count      `json:"leavers,omitempty"` // how many may be suspended at once without an operator
	Makes   bool       `json:"makes,omitempty"`   // an account is made at the first sign-in of who has none
	Groups  []string   `json:"groups,omitempty"`  // of who is in no group of the table
	Table   []GroupRow `json:"table,omitempty"`

	// Of directories:
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
}

const (
	// MaxSources bounds the sources, MaxRoutes the routes.
	MaxSources, MaxRoutes = 50, 200
	maxServers            = 5
	maxTable              = 1000
	maxRouteSources       = 5
	usualAsk              = Seconds(2)
	usualLeavers          = 20
	leastEvery            = 60
	usualRecent           = Seconds(12 * time.Hour / time.Second)
	maxRecent             = 7 * 24 * time.Hour
	maxDN                 = 1000
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
	if len(s.Servers) == 0 || len(s.Servers) > maxServers {
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
	}
	return &FieldError{"kind", fmt.Sprintf("%q is not known: use directory or radius", s.Kind)}
}

func (s *Source) checkDirectory() error {
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
	for field, name := range map[string]string{"nameAttribute": s.NameAttribute, "mailAttribute": s.MailAttribute, "keyAttribute": s.KeyAttribute} {
		if strings.ContainsFunc(name, func(r rune) bool {
			return r >= unicode.MaxASCII || !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("-;.", r)
		}) || len(name) > 100 {
			return &FieldError{field, fmt.Sprintf("%q is no attribute: use its name, as in uid", name)}
		}
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

func (s *Source) checkRadius() error {
	for _, server := range s.Servers {
		if host, port, err := splitAddress(server); err != nil || host == "" || port == 0 {
			return &FieldError{"servers", fmt.Sprintf("%q is no RADIUS server: use HOST:PORT, as in radius.port-selwyn.example:1812", server)}
		}
	}
	switch {
	case len(s.Secret) < 8:
		return &FieldError{"secret", "give the secret that the server knows this service by, of at least 8 characters"}
	case s.Base != "" || s.BindAs != "" || s.GroupBase != "" || s.KeyAttribute != "" || s.Trust != "" || s.Plain || s.Nested:
		return &FieldError{"base", "that is for directories"}
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

// GroupsFor are the groups of who is in groups of the source, in the order of the table.
func (s *Source) GroupsFor(theirs []string) []string {
	var found []string
	for _, row := range s.Table {
		if !slices.Contains(found, row.Ours) && slices.ContainsFunc(theirs, func(g string) bool {
			return strings.EqualFold(g, row.Theirs) || strings.EqualFold(firstValue(g), row.Theirs)
		}) {
			found = append(found, row.Ours)
		}
	}
	if found == nil {
		return s.Groups
	}
	return found
}

// firstValue is the crews of cn=crews,ou=groups.
func firstValue(dn string) string {
	first, _, _ := strings.Cut(dn, ",")
	if _, value, ok := strings.Cut(first, "="); ok {
		return value
	}
	return dn
}

// Route says which sources are asked for an account whose name fits.
type Route struct {
	Pattern string   `json:"pattern"` // as in *@partner.example
	Sources []string `json:"sources"` // in that order
}

// CheckRoutes reports what is wrong with the routes as a [*FieldError]; sources are the names that there are.
func CheckRoutes(routes []Route, sources []string) error {
	if len(routes) > MaxRoutes {
		return &FieldError{"routes", fmt.Sprintf("there are at most %d", MaxRoutes)}
	}
	for i, r := range routes {
		if r.Pattern == "" || len(r.Pattern) > MaxNameLength || CheckPathName(r.Pattern) != nil || strings.ContainsAny(r.Pattern, "/,; ") {
			return &FieldError{"pattern", fmt.Sprintf("%q is no pattern of accounts: use letters with * and ?, as in *@partner.example", r.Pattern)}
		}
		if slices.ContainsFunc(routes[:i], func(before Route) bool { return strings.EqualFold(before.Pattern, r.Pattern) }) {
			return &FieldError{"pattern", "the pattern " + r.Pattern + " stands there twice"}
		}
		if len(r.Sources) == 0 || len(r.Sources) > maxRouteSources {
			return &FieldError{"sources", fmt.Sprintf("name 1 to %d sources for %s: source list shows the ones there are", maxRouteSources, r.Pattern)}
		}
		for n, name := range r.Sources {
			if name != OwnSource && !slices.Contains(sources, name) {
				return &FieldError{"sources", "there is no source " + name + ": source list shows the ones there are"}
			}
			if slices.Contains(r.Sources[:n], name) {
				return &FieldError{"sources", "the source " + name + " is named twice for " + r.Pattern}
			}
		}
	}
	return nil
}

// everybody is the route of who fits no other.
var everybody = Route{Pattern: "*", Sources: []string{OwnSource}}

// RouteOf is the first route whose pattern an account's name fits; else it is the service's own records that are asked.
func RouteOf(routes []Route, name string) Route {
	for _, r := range routes {
		if like(r.Pattern, name) {
			return r
		}
	}
	return everybody
}

// From is the source that an account comes from, by name.
func (a *Account) From() string {
	if a.Source == "" {
		return OwnSource
	}
	return a.Source
}

// Asks says whether a route asks the source that an account comes from, and if not why.
func (r Route) Asks(a *Account) *Fault {
	if slices.Contains(r.Sources, a.From()) {
		return nil
	}
	return Refuse(BadCredentials, fmt.Sprintf("the account comes from %s, and the route %s asks %s only", a.From(), r.Pattern, strings.Join(r.Sources, ", ")))
}
