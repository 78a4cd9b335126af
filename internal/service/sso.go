package service

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/face/portal"
	"urbankeep/internal/face/sso"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/protocol/sftp"
)

// openSSO prepares what providers of single sign-on come to.
func (s *Service) openSSO(console http.Handler) http.Handler {
	journeys := s.door.accounts.Journeys
	return (&sso.Server{Face: journeys.Face, Told: s.portal.Told, Log: s.log,
		Posted: func(ctx context.Context, state string, answer url.Values) {
			journeys.Posted(ctx, s.book, state, answer)
		},
		Describe: func(_ context.Context, name, origin string) ([]byte, error) {
			if one := s.book.Source(name); one != nil {
				return one.Describe(origin)
			}
			return nil, errors.ErrUnsupported
		},
		Back: map[keep.Face]http.HandlerFunc{keep.PortalFace: s.portal.Back, keep.ConsoleFace: console.ServeHTTP},
	}).Handler()
}

func shownSSO(sources []keep.Source) []api.SSO {
	shown := []api.SSO{}
	for _, one := range sources {
		shown = append(shown, api.SSO{Source: one.Name, Label: one.Label})
	}
	return shown
}

// holdersSSO are the single sign-ons that a route asks.
func (s *Service) holdersSSO() []api.SSO {
	return shownSSO(s.book.Offered(func(one *keep.Source, routes []keep.Route) bool {
		return slices.ContainsFunc(routes, func(r keep.Route) bool { return r.Names(one.Name) })
	}))
}

func (v portalVisit) LeaveForSSO(ctx context.Context, at portal.Site, ask api.SSOLeave, browser keep.Secret) (string, keep.Secret, error) {
	return v.door.accounts.LeaveForSSO(ctx, v.visitor, ask.Source, at.Origin, ask.Link, browser)
}

func (v portalVisit) BySSO(ctx context.Context, browser keep.Secret, answer url.Values) (*tree.Tree, error) {
	a, err := v.door.accounts.BySSO(ctx, v.visitor, &v.attempt, browser, answer)
	if err != nil || a == nil {
		return nil, err
	}
	return v.enter(ctx, a)
}

func (v portalVisit) Link(code string) (api.PortalLink, error) {
	l, err := v.door.accounts.LinkOf(code)
	if err != nil {
		return api.PortalLink{}, err
	}
	return api.PortalLink{Account: l.Account, Address: l.Address, Asked: l.Asked.UTC(), SSO: shownSSO(l.Sources)}, nil
}

func (v portalVisit) DenyLink(code string) error { return v.door.accounts.DenyLink(v.visitor, code) }

// Link offers a sign-in with a browser where a web listener shows the portal.
func (v *visit) Link(ctx context.Context, account string) *sftp.Link {
	l := v.door.accounts.WouldLink(v.visitor, account)
	if l == nil {
		return nil
	}
	origin, _, err := v.door.office.Origin(ctx, keep.PortalFace)
	if err != nil || origin == "" {
		return nil
	}
	return &sftp.Link{Passwords: l.Passwords, Begin: func() (string, time.Duration, func(context.Context) (*tree.Tree, error), error) {
		if err := v.door.accounts.OfferLink(l); err != nil {
			return "", 0, nil, err
		}
		return origin + portal.Prefix + "#let-in=" + l.Code, signin.LinkLife, func(ctx context.Context) (*tree.Tree, error) {
			a, err := v.door.accounts.ByLink(ctx, v.visitor, &v.attempt, l)
			if err != nil {
				return nil, err
			}
			return v.enter(ctx, a)
		}, nil
	}}
}
