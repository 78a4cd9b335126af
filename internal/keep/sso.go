package keep

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"unicode"
)

// Standard is how a provider of single sign-on speaks.
type Standard string

// The standards.
const (
	OpenID Standard = "openid" // OpenID Connect Core 1.0, the code flow
	SAML   Standard = "saml"   // SAML 2.0, the web browser profile
)

// SSOPrefix is where web listeners have what providers of single sign-on come to, SSOBack where they send browsers back to.
const (
	SSOPrefix = "/sso/"
	SSOBack   = SSOPrefix + "back"
)

// DescribedAt is where a provider reads about this service (SAML metadata).
func (s *Source) DescribedAt(origin string) string { return origin + SSOPrefix + s.Name + "/metadata" }

// RoleRow of a source gives those who are in a group of it a role here.
type RoleRow struct {
	Theirs string `json:"theirs"` // as in a [GroupRow]
	Role   Role   `json:"role"`
}

// RoleFor is the role of an operator who is in groups of the source; "": they are none. A group counts by its whole name: another
// with the same name in another place of a directory is another.
func (s *Source) RoleFor(theirs []string) Role {
	for _, row := range s.Roles {
		if slices.ContainsFunc(theirs, func(g string) bool { return strings.EqualFold(g, row.Theirs) }) {
			return row.Role
		}
	}
	return ""
}

// Names of claims and attributes that providers of single sign-on give, where nothing else is said (OpenID Connect Core 1.0,
// section 5.1).
const usualNameClaim, usualMailClaim, usualGroupClaim = "preferred_username", "email", "groups"

func (s *Source) checkSSO() error {
	if err := s.noneOf(DirectoryKind); err != nil {
		return err
	}
	if s.Standard == "" {
		s.Standard = OpenID
	}
	if s.Label == "" {
		s.Label = s.Name
	}
	if s.MailAttribute == "" {
		s.MailAttribute = usualMailClaim
	}
	if s.GroupAttribute == "" {
		s.GroupAttribute = usualGroupClaim
	}
	switch s.Standard {
	case OpenID:
		if s.NameAttribute == "" {
			s.NameAttribute = usualNameClaim
		}
		if s.Scopes == nil {
			s.Scopes = []string{"profile", "email"}
		}
		switch {
		case s.KnownAs == "":
			return &FieldError{"knownAs", "say what the provider knows this service as: its client ID there"}
		case s.Metadata != "":
			return &FieldError{"metadata", "that is for SAML: OpenID Connect gives its own below the server's address"}
		}
	case SAML:
		if len(s.Scopes) > 0 {
			return &FieldError{"scopes", "those are for OpenID Connect"}
		}
		if s.Metadata != "" && len(s.Servers) > 0 {
			return &FieldError{"metadata", "give either the provider's metadata or the address where it is read, not both"}
		}
	default:
		return &FieldError{"standard", fmt.Sprintf("%q is not known: use openid or saml", s.Standard)}
	}
	if len(s.Servers) > 1 {
		return &FieldError{"servers", "a provider of single sign-on has one address"}
	}
	for _, server := range s.Servers {
		if !s.Reaches(server) {
			return &FieldError{"servers", fmt.Sprintf("%q is no provider: use its https:// address, as in https://id.portselwyn.example", server)}
		}
	}
	switch {
	case s.Away == AwayRecent:
		return &FieldError{"away", "a provider of single sign-on that is away lets nobody in: use refuse"}
	case len(s.Label) > maxLabel || strings.ContainsFunc(s.Label, unicode.IsControl):
		return &FieldError{"label", fmt.Sprintf("use at most %d bytes, on one line", maxLabel)}
	case len(s.KnownAs) > maxDN || strings.ContainsFunc(s.KnownAs, unicode.IsSpace):
		return &FieldError{"knownAs", fmt.Sprintf("use at most %d bytes without spaces", maxDN)}
	case len(s.Metadata) > MaxSAML:
		return &FieldError{"metadata", fmt.Sprintf("use at most %d bytes", MaxSAML)}
	case len(s.Scopes) > maxTable || slices.ContainsFunc(s.Scopes, func(scope string) bool { return scope == "" || strings.ContainsAny(scope, " \"\\") }):
		return &FieldError{"scopes", "use words, as in profile and email"}
	case len(s.Roles) > maxTable:
		return &FieldError{"roles", fmt.Sprintf("use at most %d rows", maxTable)}
	}
	for _, row := range s.Roles {
		if row.Theirs == "" || len(row.Theirs) > maxDN || row.Role.Check() != nil {
			return &FieldError{"roles", "a row names a group of theirs and a role, as in it-desk=manager"}
		}
	}
	return s.checkAttributes("-_.:/")
}

// Reaches reports whether an address of the provider may be asked, or shown to a browser: by TLS, or on this machine.
func (s *Source) Reaches(address string) bool {
	u, err := url.Parse(address)
	return err == nil && (u.Scheme == "https" || u.Scheme == "http" && (s.Plain || isLoopback(u.Hostname()))) && u.Hostname() != "" && u.User == nil && u.Fragment == ""
}

func isLoopback(host string) bool {
	at, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && at.IsLoopback()
}
