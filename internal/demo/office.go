package demo

import (
	"context"
	"errors"
	"time"

	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
	"urbankeep/internal/service"
)

// staff has the operators of the survey office do what they do on a morning: say what the
// service is called, walk through the set-up, and change a thing or two.
func (c *city) staff(ctx context.Context, s *service.Service, web, mail string) error {
	ilse := office.Actor{Operator: "ilse", Role: keep.Owner, Address: "127.0.0.1", Protocol: keep.Console}
	tomas := office.Actor{Operator: "tomas", Role: keep.Manager, Address: "127.0.0.1", Protocol: keep.Console}
	if err := s.Office.SetIdentity(ctx, ilse, keep.Identity{Name: "Port Selwyn survey office", Host: "127.0.0.1"}); err != nil {
		return err
	}
	for _, step := range []string{"listeners", "passive", "certificate", "host-keys", "store"} {
		if err := s.Office.MarkSetup(ctx, step, office.StepDone); err != nil {
			return err
		}
	}
	sessions := keep.Count(4)
	if _, err := s.Office.SetGroup(ctx, tomas, "crews", func(g *keep.Group) error {
		g.Settings.MaxSessions = &sessions
		return nil
	}); err != nil {
		return err
	}
	for _, p := range []keep.Pass{
		{Kind: keep.FetchPass, Paths: []string{"/shared/plates"}, Note: "Plates for the evening run", Text: "The plates for tonight, as agreed. Ring the survey office if one is missing."},
		{Kind: keep.DropPass, Paths: []string{"/partners/drone-contractor"}, Asks: true, Apart: true, Note: "Roof survey, third pass", Text: "Please leave the point clouds of the roof survey here."},
	} {
		_, secret, err := s.Office.AddPass(ctx, tomas, "records-desk", p, "", 10*24*time.Hour)
		if err != nil {
			return err
		}
		c.papers.Passes = append(c.papers.Passes, map[string]string{"kind": string(p.Kind), "link": "/pass/" + secret.Reveal() + "/"})
	}
	if err := errors.Join(c.save(), c.tell(ctx, s, ilse, web, mail)); err != nil {
		return err
	}
	_, err := s.Office.SetListener(ctx, ilse, string(keep.FTP), func(l *keep.Listener) { l.Banner = "Port Selwyn survey office" }, false)
	return err
}
