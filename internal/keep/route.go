package keep

import (
	"fmt"
	"slices"
	"strings"
)

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

// Names reports whether the route asks a source.
func (r Route) Names(source string) bool { return slices.Contains(r.Sources, source) }

// Asks says whether a route asks the source that an account comes from, and if not why.
func (r Route) Asks(a *Account) *Fault {
	if slices.Contains(r.Sources, a.From()) {
		return nil
	}
	return Refuse(BadCredentials, fmt.Sprintf("the account comes from %s, and the route %s asks %s only", a.From(), r.Pattern, strings.Join(r.Sources, ", ")))
}
