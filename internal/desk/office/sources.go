package office

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/people/source"
	"urbankeep/internal/people/source/book"
	"urbankeep/internal/people/source/sso"
	"urbankeep/internal/records"
)

// Source is a source besides the own records; an error says that there is none of that name.
func (o *Office) Source(ctx context.Context, name string) (keep.Source, error) {
	all, err := o.DB.Sources(ctx)
	for _, s := range all {
		if strings.EqualFold(s.Name, name) {
			return s, err
		}
	}
	return keep.Source{}, cmp.Or[error](err, keep.NoSuch("source", name))
}

// SetSource makes a source, or changes one. Edit is given the source as it is.
func (o *Office) SetSource(ctx context.Context, who Actor, name string, add bool, edit func(*keep.Source) error) (s keep.Source, err error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	all, err := o.DB.Sources(ctx)
	if err != nil {
		return s, err
	}
	at := slices.IndexFunc(all, func(s keep.Source) bool { return strings.EqualFold(s.Name, name) })
	var before keep.Source
	action := keep.SourceSet
	switch {
	case at < 0 && !add:
		return s, keep.NoSuch("source", name)
	case at >= 0 && add:
		return s, errNameTaken
	case add && len(all) >= keep.MaxSources:
		return s, &keep.FieldError{Field: "name", Say: fmt.Sprintf("there are %d sources, as many as there may be: remove some first", len(all))}
	case add:
		action, s.Name = keep.SourceAdd, name
	default:
		before = all[at]
		s = before
		s.Kept = true
		s.Servers, s.Groups, s.Table = slices.Clone(s.Servers), slices.Clone(s.Groups), slices.Clone(s.Table)
	}
	if err := edit(&s); err != nil {
		return s, err
	}
	if err := o.checkSource(ctx, &s, before, add); err != nil {
		return s, err
	}
	s.Kept = false
	if reflect.DeepEqual(s, before) {
		signin.NothingChanged(ctx)
		return s, nil
	}
	err = o.recorded(ctx, who, action, s.Name, fmt.Sprintf("%s at %s", s.Kind, strings.Join(s.Servers, ", "))+map[bool]string{true: "; off"}[s.Off], func(ctx context.Context) error {
		if err := o.DB.SaveSource(ctx, s); err != nil || s.Away == keep.AwayRecent {
			return err
		}
		return o.DB.DropVouched(ctx, s.Name)
	})
	if err != nil {
		return s, err
	}
	return s, o.Book.Arrange(ctx)
}

func (o *Office) checkSource(ctx context.Context, s *keep.Source, before keep.Source, add bool) error {
	if err := s.Check(); err != nil {
		return err
	}
	if s.Trust != "" && !isCertificate(s.Trust) {
		return errNoCertificate
	}
	if !add && s.Kind != before.Kind {
		return &keep.FieldError{Field: "kind", Say: "a source keeps its kind: make another"}
	}
	given := slices.Clone(s.Groups)
	for _, row := range s.Table {
		given = append(given, row.Ours)
	}
	for _, name := range given {
		if _, err := o.DB.Group(ctx, name); err != nil {
			return fieldOf(err, "groups", "no group is named "+name+": group list shows the ones there are")
		}
	}
	if !add && s.Kind == keep.SSOKind && s.Standard != before.Standard {
		return &keep.FieldError{Field: "standard", Say: "a source keeps its standard: make another"}
	}
	elsewhere := !slices.Equal(s.Servers, before.Servers) || s.Trust != before.Trust || s.Plain != before.Plain
	if s.Standard == keep.SAML {
		return o.checkSAML(s, before)
	}
	if !add && elsewhere && s.Kept && s.Secret != "" {
		return &keep.FieldError{Field: "secret", Say: "give the secret again: the one that is kept was for other servers"}
	}
	return nil
}

// checkSAML gives a SAML source its key, and wants metadata that can be used.
func (o *Office) checkSAML(s *keep.Source, before keep.Source) (err error) {
	if s.Secret != before.Secret {
		return &keep.FieldError{Field: "secret", Say: "SAML needs none: the service signs with a key of its own"}
	}
	if s.Metadata != "" {
		if _, err := sso.ParseMetadata(s, []byte(s.Metadata)); err != nil {
			return &keep.FieldError{Field: "metadata", Say: strings.TrimPrefix(err.Error(), "it can't be asked: ")}
		}
	}
	if s.Secret == "" {
		s.Secret, err = sso.NewKey(s.Name)
	}
	return err
}

// RemoveSource forgets a source that nothing needs.
func (o *Office) RemoveSource(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	s, err := o.Source(ctx, name)
	if err != nil {
		return err
	}
	routes, err := o.DB.Routes(ctx)
	if err != nil {
		return err
	}
	var needed []string
	for _, r := range routes {
		if r.Names(s.Name) {
			needed = append(needed, "the route "+r.Pattern)
		}
	}
	n, err := o.DB.AccountsFrom(ctx, s.Name)
	if err != nil {
		return err
	}
	factors, err := o.factorsBy(ctx, s.Name)
	if err != nil {
		return err
	}
	needed = append(needed, factors...)
	if n > 0 {
		needed = append(needed, keep.SayMany(n, "account"))
	}
	operators, err := o.DB.OperatorsFrom(ctx, s.Name)
	if err != nil {
		return err
	}
	if operators > 0 {
		needed = append(needed, keep.SayMany(operators, "operator"))
	}
	if len(needed) > 0 {
		return keep.Refuse(keep.InUse, "it is needed by "+strings.Join(needed, ", ")+": change those first (route list, account set NAME -source own)")
	}
	err = o.recorded(ctx, who, keep.SourceRemove, s.Name, string(s.Kind), func(ctx context.Context) error {
		return errors.Join(o.DB.DropSource(ctx, s.Name), o.DB.DropVouched(ctx, s.Name))
	})
	if err != nil {
		return err
	}
	return o.Book.Arrange(ctx)
}

// checkFactor reports a second factor by a source that can't give one.
func (o *Office) checkFactor(ctx context.Context, settings keep.Settings) error {
	if settings.FactorBy == nil || *settings.FactorBy == keep.FactorByApp || *settings.FactorBy == keep.FactorByMail {
		return nil
	}
	if s, err := o.Source(ctx, string(*settings.FactorBy)); err != nil || s.Kind != keep.RadiusKind {
		return &keep.FieldError{Field: "factorBy", Say: "no RADIUS source is named " + string(*settings.FactorBy) + ": use app, mail, or one of source list"}
	}
	return nil
}

// factorsBy names the accounts and groups whose second factor a source checks.
func (o *Office) factorsBy(ctx context.Context, source string) (found []string, err error) {
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return nil, err
	}
	groups, err := o.DB.Groups(ctx)
	by := func(s keep.Settings) bool { return s.FactorBy != nil && string(*s.FactorBy) == source }
	for _, a := range accounts {
		if by(a.Settings) {
			found = append(found, "the second factor of "+a.Name)
		}
	}
	for _, g := range groups {
		if by(g.Settings) {
			found = append(found, "the second factor of the group "+g.Name)
		}
	}
	return found, err
}

// routesFacts are the routes as the history has them.
type routesFacts struct {
	Routes []keep.Route `json:"routes"`
}

// Routes are which sources are asked, in order.
func (o *Office) Routes(ctx context.Context) ([]keep.Route, error) { return o.DB.Routes(ctx) }

// maxShutOut bounds who is named by [Office.ShutOut].
const maxShutOut = 20

// ShutOut names accounts that can't sign in because their route does not ask the source they come from.
func (o *Office) ShutOut(ctx context.Context, routes []keep.Route) (found []string, err error) {
	all, err := o.DB.AllAccounts(ctx)
	for _, a := range all {
		if len(found) < maxShutOut && !a.Anonymous() && keep.RouteOf(routes, a.Name).Asks(a) != nil {
			found = append(found, a.Name)
		}
	}
	return found, err
}

// SetRoutes changes which sources are asked.
func (o *Office) SetRoutes(ctx context.Context, who Actor, edit func([]keep.Route) ([]keep.Route, error)) ([]keep.Route, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.DB.Routes(ctx)
	if err != nil {
		return nil, err
	}
	routes, err := edit(slices.Clone(before))
	if err != nil {
		return nil, err
	}
	sources, err := o.DB.Sources(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, s := range sources {
		names = append(names, s.Name)
	}
	if err := keep.CheckRoutes(routes, names); err != nil {
		return nil, err
	}
	err = o.changed(ctx, who, keep.RoutesSet, routesOf, "", routesFacts{before}, routesFacts{routes}, func(ctx context.Context) error { return o.DB.SaveRoutes(ctx, routes) })
	if err != nil {
		return nil, err
	}
	return routes, o.Book.Arrange(ctx)
}

// TrySource tries a source step by step; see [source.Asker]. The last step says what would come of the sign-in of that account.
func (o *Office) TrySource(ctx context.Context, who Actor, name string, q source.Question) ([]keep.Step, error) {
	s, err := o.Source(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := o.record(who, keep.SourceCheck, s.Name, strings.TrimSpace(q.Name+map[bool]string{true: " with a password"}[q.Password != ""])); err != nil {
		return nil, err
	}
	steps, p, err := book.Try(ctx, s, q)
	if err == nil && s.Kind == keep.SSOKind {
		return o.registered(ctx, who, s, steps)
	}
	if err != nil || q.Name == "" || p == nil {
		return steps, err
	}
	verdict := keep.Step{Name: "verdict"}
	route := o.Book.RouteOf(q.Name)
	account, err := o.DB.Account(ctx, q.Name)
	switch {
	case err != nil && !errors.Is(err, records.ErrNotFound):
		return nil, err
	case s.Off:
		verdict.Say = "the source is off: source set " + s.Name + " -on"
	case !route.Names(s.Name):
		verdict.Say = fmt.Sprintf("it is not asked for %s: the route %s asks %s", q.Name, route.Pattern, strings.Join(route.Sources, ", "))
	case p.Closed != "":
		verdict.Say = "refused: " + p.Closed
	case account == nil && !s.Makes:
		verdict.Say = "refused: there is no account " + q.Name + ", and the source makes none (-makes)"
	case account == nil && keep.CheckName("name", q.Name) != nil:
		verdict.Say = "refused: " + keep.CheckName("name", q.Name).Error()
	case account == nil:
		verdict.OK, verdict.Say = true, fmt.Sprintf("the account %s would be made, in %s", q.Name, cmp.Or(strings.Join(s.GroupsFor(p.Groups), ", "), "no group"))
	case account.Source != s.Name:
		verdict.Say = "refused: the account comes from " + account.From() + " (account set " + account.Name + " -source " + s.Name + ")"
	case signin.SameAs(account, p) != nil:
		verdict.Say = "refused: " + signin.SameAs(account, p).Error()
	default:
		verdict.OK, verdict.Say = true, "the account "+account.Name+" would sign in"+map[bool]string{true: ", if the password is right"}[q.Password == ""]
	}
	return append(steps, verdict), nil
}

// registered adds to the steps of a check what a provider of single sign-on must be told.
func (o *Office) registered(ctx context.Context, who Actor, s keep.Source, steps []keep.Step) ([]keep.Step, error) {
	origin, _, err := o.Origin(ctx, keep.PortalFace, keep.ConsoleFace)
	told := keep.Step{Name: "told", OK: origin != "", Say: "the provider must know this redirect URI: " + origin + keep.SSOBack}
	switch {
	case origin == "":
		told.Say = "no web listener shows the portal or the console, where browsers come back to"
	case s.Standard == keep.SAML:
		told.Say = "the provider must know this metadata: " + s.DescribedAt(origin)
	}
	return append(steps, told), err
}

// bySource is who changes an account because its source says so.
func bySource(s *keep.Source, v signin.Visitor) Actor {
	return Actor{Operator: "source " + s.Name, Address: v.Address, Protocol: v.Protocol, Encrypted: v.Encrypted}
}

// Settle makes or changes the account of who a source vouches for.
func (o *Office) Settle(ctx context.Context, v signin.Visitor, s keep.Source, name string, known *keep.Effective, p *source.Person) (*keep.Effective, error) {
	who := bySource(&s, v)
	if known == nil {
		a := &keep.Account{Name: name, Source: s.Name, SourceID: p.ID, Groups: s.GroupsFor(p.Groups)}
		if mail, err := keep.CheckMail("mail", p.Mail); err == nil {
			a.Mail = mail
		}
		made, err := o.AddAccount(ctx, who, a, "", "")
		if !errors.Is(err, errNameTaken) {
			return made, err
		}
		if known, err = o.Account(ctx, name); err != nil { // another session was first
			return nil, err
		}
	}
	if known.Source != s.Name {
		return nil, fmt.Errorf("the account comes from %s", known.From())
	}
	if err := signin.SameAs(known.Account, p); err != nil {
		return nil, err
	}
	edit := func(a *keep.Account) error {
		if a.Source != s.Name {
			return fmt.Errorf("the account comes from %s", a.From())
		}
		if err := signin.SameAs(a, p); err != nil {
			return err
		}
		a.SourceID = p.ID
		if mail, err := keep.CheckMail("mail", p.Mail); err == nil {
			a.Mail = mail
		}
		if len(s.Table) > 0 {
			a.Groups = slices.Clone(s.GroupsFor(p.Groups))
		}
		return nil
	}
	changed := *known.Account
	if err := edit(&changed); err != nil {
		return nil, err
	}
	if changed.SourceID == known.SourceID && changed.Mail == known.Mail && slices.Equal(changed.Groups, known.Groups) {
		return known, nil
	}
	return o.SetAccount(ctx, who, known.Name, "", edit)
}
