package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"urbankeep/internal/people/source"
)

// maxPeople bounds who is read of a directory at once, maxAllGroups the groups; pageSize is how many come in one answer
// (RFC 2696).
const (
	maxPeople    = 200_000
	maxAllGroups = 50_000
	pageSize     = 500
)

// List implements [source.Lister].
func (d *Directory) List(ctx context.Context) ([]source.Listed, error) {
	c, _, err := d.lookers.take(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	c.SetTimeout(0) // ctx bounds it
	all, err := d.pages(c, d.set.Base, d.set.People, d.wanted(), maxPeople)
	if err != nil {
		return nil, err
	}
	groupsOf, err := d.allGroups(c, all)
	if err != nil {
		return nil, err
	}
	var found []source.Listed
	now := time.Now()
	for _, e := range all {
		for _, name := range e.GetEqualFoldAttributeValues(d.set.NameAttribute) {
			p := source.Person{ID: idOf(e), Mail: e.GetEqualFoldAttributeValue(d.set.MailAttribute), Closed: closedBy(e, now), Groups: groupsOf(name, e)}
			found = append(found, source.Listed{Name: name, Person: p})
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return found, nil
}

func (d *Directory) pages(c *ldap.Conn, base, filter string, attributes []string, most int) ([]*ldap.Entry, error) {
	paging := ldap.NewControlPaging(pageSize)
	var all []*ldap.Entry
	for {
		answer, err := c.Search(&ldap.SearchRequest{BaseDN: base, Scope: ldap.ScopeWholeSubtree, Filter: filter, Attributes: attributes, Controls: []ldap.Control{paging}})
		if err != nil {
			return nil, &source.Away{Cause: fmt.Errorf("read all below %s: %w", base, err)} // half of them must not pass for all
		}
		if all = append(all, answer.Entries...); len(all) > most {
			return nil, fmt.Errorf("there are more than %d entries below %s: narrow the filter", most, base)
		}
		next, ok := ldap.FindControl(answer.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			return all, nil
		}
		paging.SetCookie(next.Cookie)
	}
}

// allGroups reads every group once, and says those of an entry.
func (d *Directory) allGroups(c *ldap.Conn, people []*ldap.Entry) (func(name string, e *ldap.Entry) []string, error) {
	above := map[string][]string{} // by DN or name in lower letters, the groups that one is in
	if d.set.GroupBase != "" {
		groups, err := d.pages(c, d.set.GroupBase, "(|(member=*)(uniqueMember=*)(memberUid=*))", []string{"member", "uniqueMember", "memberUid"}, maxAllGroups)
		if err != nil {
			return nil, err
		}
		for _, g := range groups {
			for _, m := range slices.Concat(g.GetEqualFoldAttributeValues("member"), g.GetEqualFoldAttributeValues("uniqueMember"), g.GetEqualFoldAttributeValues("memberUid")) {
				above[strings.ToLower(m)] = append(above[strings.ToLower(m)], g.DN)
			}
		}
		return func(name string, e *ldap.Entry) []string {
			return d.climb(above, slices.Concat(above[strings.ToLower(e.DN)], above[strings.ToLower(name)]))
		}, nil
	}
	for d.set.Nested {
		var unknown []string
		for _, e := range people {
			for _, g := range e.GetEqualFoldAttributeValues("memberOf") {
				if _, known := above[strings.ToLower(g)]; !known {
					above[strings.ToLower(g)] = nil
					unknown = append(unknown, g)
				}
			}
		}
		if people = nil; len(unknown) == 0 {
			break
		}
		for _, g := range unknown {
			answer, err := c.Search(&ldap.SearchRequest{BaseDN: g, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"memberOf"}})
			if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
				continue
			}
			if err != nil {
				return nil, &source.Away{Cause: err}
			}
			for _, e := range answer.Entries {
				above[strings.ToLower(g)] = e.GetEqualFoldAttributeValues("memberOf")
				people = append(people, e)
			}
		}
		if len(above) > maxAllGroups {
			return nil, errors.New("there are too many groups")
		}
	}
	return func(_ string, e *ldap.Entry) []string {
		return d.climb(above, e.GetEqualFoldAttributeValues("memberOf"))
	}, nil
}

// climb adds the groups that groups are in, if groups may hold groups.
func (d *Directory) climb(above map[string][]string, groups []string) []string {
	found, added := addNew(nil, groups)
	for depth := 1; d.set.Nested && depth < maxDepth && len(added) > 0; depth++ {
		var next []string
		for _, g := range added {
			next = append(next, above[strings.ToLower(g)]...)
		}
		found, added = addNew(found, next)
	}
	return found
}
