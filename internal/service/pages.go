package service

import (
	"context"
	"crypto/tls"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"

	"urbankeep/internal/api"
	"urbankeep/internal/face/pass"
	"urbankeep/internal/face/portal"
	"urbankeep/internal/face/web"
	"urbankeep/internal/files/picture"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/certificate"
	"urbankeep/internal/protocol/dav"
	"urbankeep/internal/protocol/https"
	"urbankeep/internal/protocol/wire"
)

// openPages prepares what web listeners show.
func (s *Service) openPages(program string) {
	s.pages = &web.Server{Office: s.Office, Operators: s.Operators, DB: s.DB, Trail: s.Trail, Seal: s.Seal, Traffic: s.Traffic, Series: s.Series, Metrics: s.metrics, Posts: s, Status: s.Status, Log: s.log}
	if program == "" {
		program, _ = os.Executable()
	}
	console := s.pages.Handler(false)
	s.portal = &portal.Server{Keeper: portalDoor{s.door}, Log: s.log, Pages: web.PortalPages(), Pictures: picture.New(filepath.Join(s.dir, "previews"), program),
		Door: func(r *http.Request) api.PortalDoor {
			said := api.PortalDoor{Banner: web.CameOf(r).Listener.Banner, SSO: s.holdersSSO()}
			if who, err := s.Office.Identity(r.Context()); err == nil {
				said.Name = who.Name
			}
			return said
		},
		Told:        func(r *http.Request) bool { return web.CameOf(r).Encrypted },
		ShowsPasses: func(r *http.Request) bool { return web.CameOf(r).Listener.Serves(keep.PassesFace) }}
	s.portal.Prepare()
	s.passes = &pass.Server{Keeper: passDoor{s.door}, Log: s.log, Assets: web.PassAssets(),
		Name: func(r *http.Request) (name, banner string) {
			said := s.portal.Door(r)
			return said.Name, said.Banner
		},
		Told: s.portal.Told}
	s.passes.Prepare()
	s.dav = &dav.Server{Keeper: davDoor{s.door}, Told: s.portal.Told, Log: s.log}
	s.dav.Prepare()
	elsewhere := s.openSSO(console)
	s.site = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch l := web.CameOf(r).Listener; {
		case l.Serves(keep.PortalFace) && r.URL.Path+"/" == portal.Prefix:
			http.Redirect(w, r, portal.Prefix, http.StatusFound)
		case l.Serves(keep.PortalFace) && strings.HasPrefix(r.URL.Path, portal.Prefix):
			s.portal.ServeHTTP(w, r) // bytes of files go straight to the connection
		case (l.Serves(keep.PortalFace) || l.Serves(keep.ConsoleFace)) && strings.HasPrefix(r.URL.Path, keep.SSOPrefix):
			elsewhere.ServeHTTP(w, r)
		case l.Serves(keep.PassesFace) && strings.HasPrefix(r.URL.Path, pass.Prefix):
			s.passes.ServeHTTP(w, r)
		case l.Serves(keep.DavFace) && (strings.HasPrefix(r.URL.Path+"/", dav.Prefix) || r.Method == http.MethodOptions && (r.URL.Path == "/" || r.URL.Path == "*")):
			s.dav.ServeHTTP(w, r)
		default:
			console.ServeHTTP(w, r)
		}
	})
	s.webCrowd = s.newWebCrowd()
}

func (s *Service) webServer(l keep.Listener, config *tls.Config, log *slog.Logger) protocolServer {
	return &https.Server{Listener: l, TLS: config,
		Handle: func(w http.ResponseWriter, r *http.Request, v https.Visit) {
			s.site.ServeHTTP(w, r.WithContext(web.Come(r.Context(), web.Came{Listener: v.Listener, Encrypted: v.Encrypted})))
		},
		Admit: s.door.admitsPage, Crowd: s.webCrowd, Onward: s.portOf, Answer: s.certificate.Page, Ready: s.ready, Log: log}
}

// portOf is where a listener listens, 0 where it doesn't.
func (s *Service) portOf(name string) int {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	if o, _ := s.posts.find(name); o != nil && o.Encryption != keep.EncryptionOff {
		return wire.Port(o.socket.Addr())
	}
	return 0
}

// ready reports whether the service does all of its work.
func (s *Service) ready(ctx context.Context) bool {
	problems, err := s.problems(ctx)
	return err == nil && len(problems) == 0
}

// consoleURL is a web listener that serves the console, and where; "" when none does. One
// with TLS comes first.
func (s *Service) consoleURL() (listener, url string) {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	for _, o := range s.posts.open {
		if !o.Serves(keep.ConsoleFace) {
			continue
		}
		host := o.socket.Addr().String()
		if at := wire.IP(o.socket.Addr()); at.IsUnspecified() { // this machine reaches it so
			host = net.JoinHostPort("localhost", strconv.Itoa(wire.Port(o.socket.Addr())))
		}
		if o.Encryption != keep.EncryptionOff {
			return o.Name, "https://" + host
		}
		if url == "" {
			listener, url = o.Name, "http://"+host
		}
	}
	return listener, url
}

// Console is where the console is reached, as a URL; "" where no listener serves it. It
// implements [office.Live].
func (s *Service) Console() string {
	_, url := s.consoleURL()
	return url
}

// SetupLink makes the one-time link for the first operator; "" when there is one, or
// nowhere to open it.
func (s *Service) SetupLink(ctx context.Context) (string, error) {
	operators, err := s.DB.Operators(ctx)
	if url := s.Console(); err == nil && len(operators) == 0 && url != "" {
		secret, err := s.Operators.NewSetup(ctx)
		// The secret stands behind the #, which browsers keep to themselves: it is in
		// no request and no log.
		return url + "/console/setup#" + secret.Reveal(), err
	}
	return "", err
}

// certificateFor chooses the certificate for a handshake on a listener.
func (s *Service) certificateFor(listener *atomic.Pointer[keep.Listener]) func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	return func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		return s.certificate.Choose(listener.Load().Certificate, hello)
	}
}

// challengeWays says how an authority of certificates can be answered: on a web listener without
// TLS, on one with it.
func (s *Service) challengeWays() (plain, secure bool) {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	for _, o := range s.posts.open {
		plain = plain || o.Protocol == keep.Web && o.Encryption == keep.EncryptionOff && (!o.Loopback() || len(o.Proxies) > 0)
		secure = secure || o.Protocol == keep.Web && o.Encryption != keep.EncryptionOff
	}
	return plain, secure
}

// renewed records how the renewal of a certificate ended: each that was done, and the first of
// those that fail one after the other.
func (s *Service) renewed(f certificate.Facts, err error) {
	switch {
	case err == nil:
		s.Trail.Note(keep.AuditRecord{Action: keep.CertificateSet, Target: f.Fingerprint, Outcome: keep.Done, Detail: "renewed: " + strings.Join(f.Names, ", ")})
	case f.Failed == 1:
		s.Trail.Note(keep.AuditRecord{Action: keep.CertificateSet, Target: f.Fingerprint, Outcome: keep.Failed, Reason: keep.Failure, Detail: "not renewed: " + f.Failure})
	}
}
