package book

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"reflect"
	"slices"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
	"urbankeep/internal/people/source/directory"
	"urbankeep/internal/people/source/radius"
	"urbankeep/internal/people/source/sso"
	"urbankeep/internal/records"
)

const (
	// maxAsking questions are put to one source at a time; the others wait for their turn, as long as one may take, those who are known first; some turns are kept for them.
	maxAsking = 16
	// awayFor is how long a source that could not be asked is not asked again.
	awayFor = time.Second
	// lookFor is how long it is remembered what a source said about somebody, maxLooked about how many.
	lookFor, maxLooked = 15 * time.Second, 2000
)

// Book holds sources and routes.
type Book struct {
	DB  *records.DB
	Log *slog.Logger

	mu      sync.Mutex
	sources map[string]*Source // by name
	routes  []keep.Route
}

// Source is one that can be asked.
type Source struct {
	keep.Source
	asker source.Asker
	turns *source.Turns

	mu     sync.Mutex
	away   time.Time // since when it could not be asked; zero: it could
	last   time.Time // when that was found out last
	why    error
	looked map[string]looked
}

// looked is what was found out about somebody a moment ago.
type looked struct {
	p  *source.Person
	at time.Time
}

func open(s keep.Source) (*Source, error) {
	one := &Source{Source: s, turns: source.NewTurns(maxAsking, maxAsking/4)}
	var err error
	switch s.Kind {
	case keep.DirectoryKind:
		one.asker, err = directory.Open(s)
	case keep.RadiusKind:
		one.asker = radius.Open(s)
	case keep.SSOKind:
		one.asker, err = sso.Open(s)
	default:
		err = fmt.Errorf("the source %s is of an unknown kind, %q", s.Name, s.Kind)
	}
	return one, err
}

// Arrange puts in force what the records say.
func (b *Book) Arrange(ctx context.Context) error {
	all, err := b.DB.Sources(ctx)
	if err != nil {
		return err
	}
	routes, err := b.DB.Routes(ctx)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	before := b.sources
	b.sources, b.routes = map[string]*Source{}, routes
	for _, s := range all {
		if was := before[s.Name]; was != nil && reflect.DeepEqual(was.Source, s) {
			b.sources[s.Name] = was
			delete(before, s.Name)
			continue
		}
		one, err := open(s)
		if err != nil {
			b.Log.Error("a source can't be asked", "source", s.Name, "cause", err)
			continue
		}
		b.sources[s.Name] = one
	}
	for _, gone := range before {
		gone.asker.Close()
	}
	return nil
}

// Close ends all connections.
func (b *Book) Close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, one := range b.sources {
		one.asker.Close()
	}
	b.sources = nil
}

// Source is the one of a name; nil when there is none that may be asked.
func (b *Book) Source(name string) *Source {
	b.mu.Lock()
	defer b.mu.Unlock()
	if one := b.sources[name]; one != nil && !one.Off {
		return one
	}
	return nil
}

// Offered are the sources of single sign-on that may be asked and that fit, by name.
func (b *Book) Offered(fits func(*keep.Source, []keep.Route) bool) (found []keep.Source) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, one := range b.sources {
		if one.Kind == keep.SSOKind && !one.Off && fits(&one.Source, b.routes) {
			found = append(found, one.Source)
		}
	}
	slices.SortFunc(found, func(a, b keep.Source) int { return cmp.Compare(a.Name, b.Name) })
	return found
}

// RouteOf is the route of an account's name.
func (b *Book) RouteOf(name string) keep.Route {
	b.mu.Lock()
	defer b.mu.Unlock()
	return keep.RouteOf(b.routes, name)
}

// Ask asks whether a password is right. See [source.Asker].
func (s *Source) Ask(ctx context.Context, q source.Question) (p *source.Person, err error) {
	theirs, ok := s.AskedAs(q.Name)
	if !ok {
		return nil, source.ErrNobody
	}
	q.Name = theirs
	err = s.within(ctx, func(ctx context.Context) error {
		p, err = s.asker.Ask(ctx, q)
		return err
	})
	return p, err
}

// Look asks about somebody who has proved themselves otherwise, or may; what it said a moment ago it is not asked again.
func (s *Source) Look(ctx context.Context, name string) (p *source.Person, err error) {
	name, ok := s.AskedAs(name)
	if !ok {
		return nil, source.ErrNobody
	}
	s.mu.Lock()
	known, before := s.looked[name]
	s.mu.Unlock()
	if before && time.Since(known.at) < lookFor {
		return known.p, nil
	}
	err = s.within(ctx, func(ctx context.Context) error {
		p, err = s.asker.Look(ctx, name)
		return err
	})
	if err == nil {
		s.mu.Lock()
		if len(s.looked) >= maxLooked || s.looked == nil {
			s.looked = map[string]looked{}
		}
		s.looked[name] = looked{p, time.Now()}
		s.mu.Unlock()
	}
	return p, err
}

// Browsing are the sources of a route that prove people in a browser, and whether there are others, which know passwords.
func (b *Book) Browsing(r keep.Route) (found []*Source, passwords bool) {
	for _, name := range r.Sources {
		one := b.Source(name)
		switch {
		case name == keep.OwnSource, one != nil && one.Kind != keep.SSOKind:
			passwords = true
		case one != nil:
			found = append(found, one)
		}
	}
	return found, passwords
}

// Begin sends a browser to a source; see [source.Browsing]. [errors.ErrUnsupported] where it knows passwords instead.
func (s *Source) Begin(ctx context.Context, origin string) (where string, j source.Journey, err error) {
	browsing, ok := s.asker.(source.Browsing)
	if !ok {
		return "", j, errors.ErrUnsupported
	}
	err = s.within(ctx, func(ctx context.Context) error {
		where, j, err = browsing.Begin(ctx, origin)
		return err
	})
	return where, j, err
}

// End proves somebody by what the browser brings back; they are named as they are here.
func (s *Source) End(ctx context.Context, j source.Journey, answer url.Values) (who *source.Listed, err error) {
	browsing, ok := s.asker.(source.Browsing)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	err = s.within(ctx, func(ctx context.Context) error {
		who, err = browsing.End(ctx, j, answer)
		return err
	})
	if err == nil {
		who.Name = s.CalledHere(who.Name)
	}
	return who, err
}

// Describe is what a source reads about this service.
func (s *Source) Describe(origin string) ([]byte, error) {
	browsing, ok := s.asker.(source.Browsing)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	return browsing.Describe(origin)
}

// within asks in the time that there is for it, and notes whether the source is away.
func (s *Source) within(whole context.Context, ask func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(whole, s.Timeout.Duration())
	defer cancel()
	s.mu.Lock()
	why := s.why
	if s.away.IsZero() || time.Since(s.last) > awayFor {
		why = nil
	}
	s.mu.Unlock()
	if why != nil {
		return why
	}
	if s.turns.Take(ctx) != nil {
		return &source.Away{Cause: errors.New("too many ask it at the same time")}
	}
	defer s.turns.GiveBack()
	err := ask(ctx)
	if whole.Err() != nil { // who asked has left, which says nothing about the source
		return cmp.Or(err, whole.Err())
	}
	var away *source.Away
	s.mu.Lock()
	defer s.mu.Unlock()
	if !errors.As(err, &away) {
		s.away, s.why = time.Time{}, nil
		return err
	}
	if s.last, s.why = time.Now(), err; s.away.IsZero() {
		s.away = s.last
	}
	return err
}

// Away are the sources that can't be asked, by name, and why.
func (b *Book) Away() map[string]error {
	b.mu.Lock()
	defer b.mu.Unlock()
	found := map[string]error{}
	for name, one := range b.sources {
		if since, why := one.Away(); !one.Off && !since.IsZero() {
			found[name] = why
		}
	}
	return found
}

// Away says since when a source can't be asked, and why; zero when it can, or it was not tried.
func (s *Source) Away() (since time.Time, why error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.away, s.why
}

// Try checks a source that may not be saved yet, step by step.
func Try(ctx context.Context, s keep.Source, q source.Question) (steps []keep.Step, p *source.Person, err error) {
	one, err := open(s)
	if err != nil {
		return nil, nil, err
	}
	defer one.asker.Close()
	ctx, cancel := context.WithTimeout(ctx, 3*s.Timeout.Duration()) // there are several steps
	defer cancel()
	if q.Name != "" {
		theirs, ok := s.AskedAs(q.Name)
		if !ok {
			return []keep.Step{{Name: "found", Say: "its names end in " + s.Suffix + " here"}}, nil, nil
		}
		q.Name = theirs
	}
	steps, p = one.asker.Check(ctx, q)
	return steps, p, nil
}

// listTime bounds how long everybody may be read.
const listTime = 2 * time.Minute

// List reads everybody whom a source knows. [errors.ErrUnsupported] where it can't say.
func (s *Source) List(ctx context.Context) ([]source.Listed, error) {
	lister, ok := s.asker.(source.Lister)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	ctx, cancel := context.WithTimeout(ctx, listTime)
	defer cancel()
	return lister.List(ctx)
}
