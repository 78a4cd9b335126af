package service

import (
	"context"
	"net/netip"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
	"urbankeep/internal/watch/notice"
)

// openTeller begins to tell receivers what happens.
func (s *Service) openTeller(ctx context.Context, pause time.Duration) (err error) {
	s.teller, err = notice.Open(ctx, s.DB, notice.Options{
		Source: "urn:urbankeep:" + s.Seal.Fingerprint(),
		Name: func() string {
			who, err := s.Office.Identity(context.Background())
			if err != nil {
				return ""
			}
			return who.Name
		},
		Mail:   func(ctx context.Context) (keep.MailServer, error) { return s.Office.MailServer(ctx) },
		MailOf: s.mailOf,
		Own:    s.own,
		Away:   s.troubles.receiver,
		Pause:  pause,
		Busy:   func() bool { _, running := s.Traffic.Counts(); return running > 0 },
		Log:    s.log,
	})
	return err
}

// mailOf is the e-mail address of an account, "" when it has none or is closed.
func (s *Service) mailOf(ctx context.Context, account string) string {
	a, err := s.DB.Account(ctx, account)
	if err != nil || a.State != keep.StateActive {
		return ""
	}
	return a.Mail
}

// own reports whether an address is one of the service's listeners.
func (s *Service) own(at netip.AddrPort) bool {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	for _, o := range s.posts.open {
		if wire.Port(o.socket.Addr()) != int(at.Port()) {
			continue
		}
		if on := wire.IP(o.socket.Addr()); on == at.Addr() || on.IsLoopback() && at.Addr().IsLoopback() || on.IsUnspecified() && notice.OfThisMachine(at.Addr()) {
			return true
		}
	}
	return false
}

// Expect looks at once for what notices wait for. It implements [office.Live].
func (s *Service) Expect() { s.troubles.again() }
