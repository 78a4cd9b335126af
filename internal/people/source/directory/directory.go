package directory

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

// maxAnswerSize bounds one message of a directory, bytes; maxGroups the groups of one person, maxDepth how deep they are
// nested, maxPassword what is worth sending.
const (
	maxAnswerSize = 16 << 20
	maxGroups     = 500
	maxDepth      = 10
	maxPassword   = 1024
)

func init() { ber.MaxPacketLengthBytes = maxAnswerSize } // it has no other way to be told

// Directory asks one. See [source.Asker].
type Directory struct {
	set     keep.Source
	lookers pool // bound as who looks people up
	provers pool // bound as whoever was proved last
}

// Open prepares a directory; nothing is sent yet.
func Open(s keep.Source) (*Directory, error) {
	d := &Directory{set: s}
	trust, err := source.Trusted(s.Trust)
	if err != nil {
		return nil, err
	}
	d.lookers = pool{set: &d.set, trust: trust, ready: d.bindLooker}
	d.provers = pool{set: &d.set, trust: trust}
	return d, nil
}

// Close implements [source.Asker].
func (d *Directory) Close() {
	d.lookers.close()
	d.provers.close()
}

func (d *Directory) bindLooker(c *ldap.Conn) error {
	if d.set.BindAs == "" {
		return nil
	}
	if err := c.Bind(d.set.BindAs, d.set.Secret.Reveal()); err != nil {
		return fmt.Errorf("bind as %s: %w", d.set.BindAs, err)
	}
	return nil
}

// Ask implements [source.Asker].
func (d *Directory) Ask(ctx context.Context, q source.Question) (*source.Person, error) {
	entry, err := d.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	// A bind without a password would succeed for anybody (RFC 4513, section 5.1.2).
	if q.Password == "" || len(q.Password) > maxPassword {
		return nil, source.ErrWrong
	}
	closed, err := d.prove(ctx, entry.DN, q.Password)
	if err != nil {
		return nil, err
	}
	p, err := d.person(ctx, q.Name, entry)
	if err == nil && closed != "" {
		p.Closed = closed
	}
	return p, err
}

// Look implements [source.Asker].
func (d *Directory) Look(ctx context.Context, name string) (*source.Person, error) {
	entry, err := d.find(ctx, name)
	if err != nil {
		return nil, err
	}
	return d.person(ctx, name, entry)
}

// Attributes that say what a directory calls an entry for ever (RFC 4530 and what others have for it), and that it may not
// sign in.
var (
	idAttributes     = []string{"entryUUID", "objectGUID", "nsUniqueId", "ipaUniqueID"}
	closedAttributes = []string{"userAccountControl", "msDS-User-Account-Control-Computed", "accountExpires", "pwdAccountLockedTime", "nsAccountLock", "loginDisabled", "shadowExpire"}
)

// wanted are the attributes that are read of people.
func (d *Directory) wanted() []string {
	attributes := slices.Concat(idAttributes, closedAttributes, []string{d.set.NameAttribute, d.set.MailAttribute, "memberOf"})
	if d.set.KeyAttribute != "" {
		attributes = append(attributes, d.set.KeyAttribute)
	}
	return attributes
}

// find looks for the one entry of a name.
func (d *Directory) find(ctx context.Context, name string) (*ldap.Entry, error) {
	filter := fmt.Sprintf("(&%s(%s=%s))", d.set.People, d.set.NameAttribute, ldap.EscapeFilter(name))
	found, err := d.search(ctx, &ldap.SearchRequest{BaseDN: d.set.Base, Scope: ldap.ScopeWholeSubtree, SizeLimit: 2, Filter: filter, Attributes: d.wanted()})
	if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
		return nil, err
	}
	// A directory compares names as it likes; ours are compared by their letters.
	found = slices.DeleteFunc(found, func(e *ldap.Entry) bool {
		return !slices.ContainsFunc(e.GetEqualFoldAttributeValues(d.set.NameAttribute), func(v string) bool { return strings.EqualFold(v, name) })
	})
	switch len(found) {
	case 0:
		return nil, source.ErrNobody
	case 1:
		return found[0], nil
	}
	return nil, fmt.Errorf("it has more than one entry with the %s %s: %s and %s", d.set.NameAttribute, name, found[0].DN, found[1].DN)
}

// search asks for entries as who looks people up.
func (d *Directory) search(ctx context.Context, ask *ldap.SearchRequest) (found []*ldap.Entry, err error) {
	ask.TimeLimit = int(d.set.Timeout)
	err = d.lookers.use(ctx, func(c *ldap.Conn) error {
		answer, err := c.Search(ask)
		if answer != nil {
			found = answer.Entries
		}
		if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
			return fmt.Errorf("there is no entry %s, or who looks people up may not see it: %w", ask.BaseDN, err)
		}
		return err
	})
	return found, err
}

// prove binds as an entry. closed says why it may not sign in, where the password is right or the directory does not say.
func (d *Directory) prove(ctx context.Context, dn string, password keep.Secret) (closed string, err error) {
	err = d.provers.use(ctx, func(c *ldap.Conn) error { return c.Bind(dn, password.Reveal()) })
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials):
		for code, why := range bindTroubles {
			if strings.Contains(err.Error(), code) {
				return why, nil
			}
		}
		return "", source.ErrWrong
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultConstraintViolation, ldap.LDAPResultInsufficientAccessRights):
		return "the directory lets it not sign in: " + err.Error(), nil
	}
	return "", err
}

// bindTroubles are what some directories say in the text of a refused bind.
var bindTroubles = map[string]string{", data 533,": "it is disabled", ", data 701,": "its time is over", ", data 775,": "it is locked", ", data 532,": "its password is too old",
	", data 773,": "its password must be changed", ", data 530,": "it may not sign in at this time"}

// person reads what an entry says.
func (d *Directory) person(ctx context.Context, name string, e *ldap.Entry) (*source.Person, error) {
	p := &source.Person{ID: idOf(e), Mail: e.GetEqualFoldAttributeValue(d.set.MailAttribute), Closed: closedBy(e, time.Now())}
	if d.set.KeyAttribute != "" {
		p.Keys = e.GetEqualFoldAttributeValues(d.set.KeyAttribute)
	}
	var err error
	if d.set.GroupBase == "" {
		p.Groups, err = d.upwards(ctx, e.GetEqualFoldAttributeValues("memberOf"))
	} else {
		p.Groups, err = d.downwards(ctx, name, e.DN)
	}
	return p, err
}

// idOf is what the directory calls an entry for ever; where it has no such thing, its DN.
func idOf(e *ldap.Entry) string {
	for _, a := range idAttributes {
		if raw := e.GetEqualFoldRawAttributeValue(a); len(raw) == 16 { // a GUID in binary
			return hex.EncodeToString(raw)
		} else if len(raw) > 0 {
			return strings.ToLower(string(raw))
		}
	}
	return strings.ToLower(e.DN)
}

// upwards are groups that entries name, and those that these name, if groups may hold groups.
func (d *Directory) upwards(ctx context.Context, groups []string) ([]string, error) {
	found := groups
	for depth := 0; d.set.Nested && depth < maxDepth && len(groups) > 0 && len(found) < maxGroups; depth++ {
		var next []string
		for _, group := range groups {
			entries, err := d.search(ctx, &ldap.SearchRequest{BaseDN: group, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"memberOf"}})
			if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
				return nil, err
			}
			for _, e := range entries {
				next = append(next, e.GetEqualFoldAttributeValues("memberOf")...)
			}
		}
		found, groups = addNew(found, next)
	}
	return found, nil
}

// downwards are groups that name an entry, and those that name these, if groups may hold groups.
func (d *Directory) downwards(ctx context.Context, name, dn string) (found []string, err error) {
	members := []string{dn}
	for depth := 0; depth < maxDepth && len(members) > 0 && len(found) < maxGroups; depth++ {
		var filter strings.Builder
		for _, m := range members {
			fmt.Fprintf(&filter, "(member=%[1]s)(uniqueMember=%[1]s)", ldap.EscapeFilter(m))
		}
		if depth == 0 {
			fmt.Fprintf(&filter, "(memberUid=%s)", ldap.EscapeFilter(name))
		}
		entries, err := d.search(ctx, &ldap.SearchRequest{BaseDN: d.set.GroupBase, Scope: ldap.ScopeWholeSubtree, SizeLimit: maxGroups, Filter: "(|" + filter.String() + ")", Attributes: []string{"1.1"}})
		if err != nil {
			return nil, err
		}
		var next []string
		for _, e := range entries {
			next = append(next, e.DN)
		}
		if found, members = addNew(found, next); !d.set.Nested {
			break
		}
	}
	return found, nil
}

// addNew adds what is not there yet, and says what that was.
func addNew(found, more []string) (all, added []string) {
	for _, one := range more {
		if len(found) < maxGroups && !slices.ContainsFunc(found, func(f string) bool { return strings.EqualFold(f, one) }) {
			found, added = append(found, one), append(added, one)
		}
	}
	return found, added
}

// Check implements [source.Asker].
func (d *Directory) Check(ctx context.Context, q source.Question) (steps []keep.Step, p *source.Person) {
	step := func(name string, err error, say string) bool {
		if err != nil {
			say = d.sayLDAP(err)
		}
		steps = append(steps, keep.Step{Name: name, OK: err == nil, Say: say})
		return err == nil
	}
	var c *ldap.Conn
	var err error
	for _, server := range d.set.Servers {
		var said string
		if c, said, err = d.lookers.dial(ctx, server); step("reached", err, said) {
			break
		}
	}
	if err != nil {
		return steps, nil
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	as := d.set.BindAs
	if as == "" {
		as = "nobody: the directory must let everybody search"
	}
	if !step("bound", d.bindLooker(c), "as "+as) {
		return steps, nil
	}
	if q.Name == "" {
		answer, err := c.Search(&ldap.SearchRequest{BaseDN: d.set.Base, Scope: ldap.ScopeWholeSubtree, SizeLimit: 1, Filter: d.set.People, Attributes: []string{"1.1"}})
		if err == nil && len(answer.Entries) == 0 {
			err = fmt.Errorf("nobody below %s fits %s, or %s may not see them", d.set.Base, d.set.People, as)
		}
		if ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			err = nil
		}
		step("found", err, "there are people below "+d.set.Base)
		return steps, nil
	}
	entry, err := d.find(ctx, q.Name)
	if err != nil {
		step("found", err, "")
		return steps, nil
	}
	step("found", nil, entry.DN)
	if p, err = d.person(ctx, q.Name, entry); err != nil {
		step("groups", err, "")
		return steps, nil
	}
	groups := "in no group"
	if len(p.Groups) > 0 {
		groups = strings.Join(p.Groups, "; ")
	}
	step("groups", nil, groups)
	if q.Password != "" {
		closed, err := d.prove(ctx, entry.DN, q.Password)
		if step("password", err, "right"); err != nil {
			return steps, nil
		}
		if closed != "" {
			p.Closed = closed
		}
	}
	if p.Closed != "" {
		step("closed", errors.New(p.Closed), "")
	}
	return steps, p
}

// sayLDAP says why a directory could not be asked, and what to look at (result codes: RFC 4511, appendix A).
func (d *Directory) sayLDAP(err error) string {
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials):
		return "bind as " + d.set.BindAs + ": the directory does not take that name, or its password: give both anew with source set -bind-as"
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return "the directory has no such place: correct -base, or -group-base"
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights):
		return "the directory does not let it look there: give -bind-as a name that may"
	case ldap.IsErrorWithCode(err, ldap.LDAPResultStrongAuthRequired), ldap.IsErrorWithCode(err, ldap.LDAPResultConfidentialityRequired):
		return "the directory asks for TLS: name it by ldaps://"
	}
	return source.SayNetwork(err)
}
