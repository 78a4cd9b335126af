package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/backup"
	"urbankeep/internal/desk/office"
	"urbankeep/internal/face/pass"
	"urbankeep/internal/face/portal"
	"urbankeep/internal/face/web"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/certificate"
	"urbankeep/internal/keys/hostkey"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/people/source/book"
	"urbankeep/internal/protocol/dav"
	"urbankeep/internal/protocol/wire"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
	"urbankeep/internal/watch/collector"
	"urbankeep/internal/watch/metrics"
	"urbankeep/internal/watch/notice"
	"urbankeep/internal/watch/series"
	"urbankeep/internal/watch/traffic"
)

// Options are what a start may say. Empty addresses leave what the records have.
type Options struct {
	Dir          string // data folder
	Console      string // address of the console and the API
	FTP          string
	FTPS         string
	SFTP         string
	PassiveLow   int
	PassiveHigh  int
	FailureDelay time.Duration     // 0: as the limits say
	Limits       *keep.Limits      // at first; nil: [keep.UsualLimits]
	Listeners    map[string]string // addresses of listeners by name; "off" stops one
	AcceptLoss   bool              // go on although pieces of the data folder are gone
	Settled      time.Duration     // 0: [collector.Settled]
	Pause        time.Duration     // before a receiver of notices is tried again, the first time; 0: a second
	Ledger       audit.Ledger      // where the trail is kept, without a journal; nil: in the records, with one
	Program      string            // that draws small pictures; "": this one
	Log          *slog.Logger
}

// hostKeysFolder is where in the data folder the host keys lie.
const hostKeysFolder = "hostkeys"

// Default addresses. The console is for this machine only until an operator
// says otherwise.
const (
	DefaultConsole     = "127.0.0.1:8470"
	DefaultFTP         = ":2121"
	DefaultFTPS        = ":2990"
	DefaultSFTP        = ":2222"
	DefaultPassiveLow  = 47000
	DefaultPassiveHigh = 47199
)

// Service is the running whole.
type Service struct {
	DB        *records.DB
	Trail     *audit.Trail
	Seal      *audit.Seal
	Office    *office.Office
	Operators *signin.Operators
	Traffic   *traffic.Registry
	Series    *series.Book
	HostKeys  *hostkey.Ring
	Stores    *kinds.Stores

	awake       bool // it is noted that the service runs
	guard       *signin.Guard
	repeats     *signin.Repeats
	crowd       *wire.Crowd // the room for who has not signed in
	power       atomic.Bool // whether records are to be on the medium when they are acknowledged
	certificate *certificate.Ring
	cut         []keep.Deed // what could not be put right yet
	ledger      *quota.Ledger
	collector   *collector.Sender
	teller      *notice.Teller
	book        *book.Book
	insync      insync
	troubles    *troubles
	holds       *holds
	metrics     *metrics.Metrics

	dir      string
	log      *slog.Logger
	door     *door
	started  time.Time
	posts    posts
	pages    *web.Server
	portal   *portal.Server
	passes   *pass.Server
	dav      *dav.Server
	site     http.Handler // what web listeners show
	webCrowd *wire.Crowd  // the room for connections to them
	paths    *paths
	serving  sync.WaitGroup
	failed   chan error
	quit     context.CancelFunc // ends the housekeeping
	gone     string             // which pieces of the data folder were gone at the start, and accepted so
}

// Open opens a data folder and prepares everything that does not listen.
func Open(ctx context.Context, o Options) (*Service, error) {
	if o.AcceptLoss {
		if err := records.Forget(o.Dir); err != nil {
			return nil, fmt.Errorf("begin with new records: %w", err)
		}
	}
	db, err := records.Open(ctx, o.Dir)
	if err != nil {
		return nil, err
	}
	s := &Service{DB: db, Stores: kinds.New(o.Dir, o.Log), dir: o.Dir, log: o.Log, Traffic: traffic.NewRegistry(), started: time.Now().UTC(),
		failed: make(chan error, 1)}
	if err := s.prepare(ctx, o); err != nil {
		return nil, errors.Join(err, s.close())
	}
	return s, nil
}

func (s *Service) prepare(ctx context.Context, o Options) (err error) {
	if err := s.missPieces(ctx, o.AcceptLoss); err != nil {
		return err
	}
	if s.Seal, err = audit.OpenSeal(o.Dir); err != nil {
		return err
	}
	var journal *audit.Journal
	if o.Ledger == nil {
		o.Ledger = s.DB
		if journal, err = audit.OpenJournal(o.Dir); err != nil {
			return err
		}
	}
	if s.Trail, err = audit.Open(ctx, o.Ledger, audit.Options{Journal: journal, Seal: s.Seal, CutOff: s.cutOff, Room: s.room, Power: s.power.Load, Outbox: s.DB, Log: o.Log}); err != nil {
		return err
	}
	if o.Settled == 0 {
		o.Settled = collector.Settled
	}
	if s.collector, err = collector.Open(ctx, s.DB, o.Settled, o.Log); err != nil {
		return err
	}
	s.troubles = &troubles{s: s, wake: make(chan struct{}, 1)}
	s.Trail.Watch(func(some []keep.AuditRecord) {
		if s.teller != nil {
			s.teller.Recorded(some)
		}
	})
	s.metrics = metrics.New(s.sources())
	s.Series = series.Open(s.DB, o.Log)
	s.Trail.Watch(s.Series.Recorded)
	s.Trail.Watch(s.collector.Recorded)
	s.Trail.Watch(s.metrics.Recorded)
	if err := s.furnish(ctx, o); err != nil {
		return err
	}
	if s.HostKeys, err = hostkey.Open(filepath.Join(o.Dir, hostKeysFolder)); err != nil {
		return err
	}
	if err := s.notePieces(ctx); err != nil {
		return err
	}
	if s.certificate, err = certificate.Open(ctx, s.DB, o.Dir, o.Log); err != nil {
		return err
	}
	s.certificate.Ways, s.certificate.Told = s.challengeWays, s.renewed
	if err := errors.Join(office.Sweep(o.Dir), backup.Sweep(o.Dir)); err != nil {
		o.Log.Warn("what a rehearsal or a backup left is still there", "cause", err)
	}
	hasher := passwords.NewHasher()
	usual := keep.UsualLimits
	if o.Limits != nil {
		usual = *o.Limits
	}
	guard := signin.NewGuard(usual)
	s.guard, s.repeats = guard, &signin.Repeats{Note: s.Trail.Note}
	s.crowd = s.newCrowd(guard)
	accounts := &signin.Accounts{DB: s.DB, Trail: s.Trail, Hasher: hasher, Guard: guard, Repeats: s.repeats, Log: o.Log, Delay: o.FailureDelay,
		Sessions: s.Traffic.Own}
	accounts.Journeys = &signin.Journeys{}
	s.book = &book.Book{DB: s.DB, Log: o.Log}
	if err := s.book.Arrange(ctx); err != nil {
		return err
	}
	s.Operators = &signin.Operators{Book: s.book, Journeys: accounts.Journeys, DB: s.DB, Trail: s.Trail, Hasher: hasher, Guard: guard, Repeats: s.repeats, Delay: cmp.Or(o.FailureDelay, usual.Delay.Duration())}
	s.ledger = quota.Open(s.DB, s.Stores.Look, o.Log, s.counted)
	if s.holds, err = openHolds(ctx, s.DB); err != nil {
		return err
	}
	s.door = &door{open: s.Stores.Open, holds: s.holds, begun: time.Now(), db: s.DB, trail: s.Trail, accounts: accounts, traffic: s.Traffic, ledger: s.ledger, stores: s.Stores, log: o.Log, inside: map[*visit]bool{}}
	s.door.hangs = hangs{s.DB, s.door}
	s.Office = &office.Office{DB: s.DB, Trail: s.Trail, Hasher: hasher, HostKeys: s.HostKeys, Live: live{s.door, s}, Certificates: s.certificate, Guard: guard, Accounts: accounts, Traffic: s.Traffic, Ledger: s.ledger, Seal: s.Seal, Collector: s.collector, Stores: s.Stores, Dir: o.Dir, Usual: usual, Log: o.Log}
	s.door.office = s.Office
	s.Office.Book, accounts.Book, accounts.Settle, accounts.SendCode = s.book, s.book, s.Office.Settle, s.Office.MailCode
	if err := s.openTeller(ctx, o.Pause); err != nil {
		return err
	}
	s.Office.Teller = s.teller
	rules, err := s.Office.Gate(ctx)
	if err != nil {
		return err
	}
	s.door.gate.Store(&rules)
	limits, err := s.Office.Limits(ctx)
	if err != nil {
		return err
	}
	guard.Limit(limits)
	s.Traffic.Most(func() (all, ofAccount int) {
		now := guard.Limits()
		return int(now.Transfers), int(now.TransfersPerHolder)
	})
	if err := s.recallGuard(ctx); err != nil {
		return err
	}
	promised, err := s.Office.Durability(ctx)
	if err != nil {
		return err
	}
	s.Promise(promised)
	if err := s.Office.Arrange(ctx); err != nil {
		return err
	}
	s.openPages(o.Program)
	return s.wake(ctx)
}

// furnish puts the first store and listeners into new records, and the addresses
// of this start into the listeners.
func (s *Service) furnish(ctx context.Context, o Options) error {
	stores, err := s.DB.Stores(ctx)
	if err != nil {
		return err
	}
	if len(stores) == 0 {
		folder, err := filepath.Abs(filepath.Join(o.Dir, "files"))
		if err != nil {
			return err
		}
		if err := os.MkdirAll(folder, 0o750); err != nil {
			return fmt.Errorf("make the first store: %w", err)
		}
		stores = []keep.Store{{Name: "files", Kind: keep.Disk, Folder: folder, Durability: keep.Power}}
	}
	if err := s.markStores(ctx, stores); err != nil {
		return err
	}
	found, err := s.DB.Listeners(ctx)
	if err != nil {
		return err
	}
	known := map[string]keep.Listener{}
	for _, l := range found {
		known[l.Name] = l
	}
	for _, first := range []struct {
		protocol       keep.Protocol
		usual, address string
	}{{keep.FTP, DefaultFTP, o.FTP}, {keep.FTPS, DefaultFTPS, o.FTPS}, {keep.SFTP, DefaultSFTP, o.SFTP}, {keep.Web, DefaultConsole, o.Console}} {
		l, ok := known[string(first.protocol)]
		if ok && l.Protocol != first.protocol {
			if first.address == "" {
				continue
			}
			return fmt.Errorf("the listener named %s is one for %s: give it another name first", l.Name, l.Protocol)
		}
		if !ok && len(found) > 0 && first.address == "" {
			continue // an operator removed it
		}
		if !ok {
			l = keep.Listener{Name: string(first.protocol), Protocol: first.protocol, Address: first.usual, Encryption: keep.EncryptionRequired}
			if first.protocol == keep.Web {
				l.Faces = keep.Faces
			}
			if first.protocol.IsFTP() {
				l.PassiveLow, l.PassiveHigh = half(DefaultPassiveLow, DefaultPassiveHigh, l.Protocol)
			}
		}
		before := l.Address
		switch l.Stopped = l.Stopped || first.address == "off"; first.address {
		case "", "off":
		default:
			l.Address = first.address
		}
		switch {
		case l.Protocol != keep.Web:
		case !ok && l.Loopback():
			l.Encryption = keep.EncryptionOff // nobody else hears it
		case l.Address != before && l.InClear():
			s.log.Info("the listener web speaks TLS from now on, for others can reach it", "address", l.Address)
			l.Encryption = keep.EncryptionRequired
		}
		known[l.Name] = l
		if o.PassiveLow != 0 && l.Protocol.IsFTP() {
			l.PassiveLow, l.PassiveHigh = half(o.PassiveLow, o.PassiveHigh, l.Protocol)
		}
		known[l.Name] = l
	}
	for name, address := range o.Listeners {
		l, ok := known[name]
		if !ok {
			return fmt.Errorf("there is no listener named %s: %s are there", name, strings.Join(slices.Sorted(maps.Keys(known)), ", "))
		}
		if l.Stopped = address == "off"; !l.Stopped {
			l.Address = address
		}
		if err := l.Check(); err != nil {
			return fmt.Errorf("listener %s: %w", name, err)
		}
		known[name] = l
	}
	for _, l := range known {
		if err := s.DB.SaveListener(ctx, l); err != nil {
			return err
		}
	}
	return nil
}

// half gives each of the two first FTP listeners its part of the passive ports:
// no two listeners share one.
func half(low, high int, protocol keep.Protocol) (int, int) {
	middle := low + (high-low)/2
	if protocol == keep.FTP {
		return low, middle
	}
	return middle + 1, high
}

// live is what operators' changes act on: the sessions inside and the listeners.
type live struct {
	*door
	*Service
}

// Start makes every listener accept. One that can't is tried again while the others serve.
func (s *Service) Start(ctx context.Context) error {
	found, err := s.DB.Listeners(ctx)
	if err != nil {
		return err
	}
	given, err := handed()
	if err != nil {
		return fmt.Errorf("take over the sockets of the supervisor: %w", err)
	}
	if given["web"] == nil && given["console"] != nil {
		given["web"] = given["console"]
	}
	sockets := map[string]net.Listener{}
	abandon := func(err error) error {
		for _, socket := range sockets {
			socket.Close()
		}
		return err
	}
	for _, l := range found {
		if l.Stopped {
			continue
		}
		if socket, ok := given[l.Name]; ok {
			sockets[l.Name] = socket
			continue
		}
		socket, err := listen(l)
		if err != nil {
			s.posts.unable(l.Name, err)
			s.log.Error("a listener can't listen and is tried again; the others serve", "cause", atStart(l, err))
			continue
		}
		sockets[l.Name] = socket
	}
	if s.paths, err = s.openPaths(); err != nil {
		return abandon(err)
	}
	if err := s.Trail.Record(keep.AuditRecord{Action: keep.ServiceStart, Outcome: keep.Done, Detail: s.gone}); err != nil {
		return abandon(err)
	}
	deeds, err := s.DB.Deeds(ctx)
	if err != nil {
		return abandon(err)
	}
	s.cut = s.mend(ctx, deeds, true)
	s.posts.mu.Lock()
	for _, l := range found {
		if socket := sockets[l.Name]; socket != nil {
			s.begin(l, socket)
		}
	}
	s.posts.mu.Unlock()
	s.paths.serve(s)
	keeping, quit := context.WithCancel(context.Background())
	s.quit = quit
	s.serving.Go(func() { s.housekeep(keeping) })
	s.serving.Go(func() { s.lookAround(keeping) })
	s.serving.Go(func() { s.troubles.watch(keeping) })
	s.serving.Go(func() { s.check(keeping) })
	s.serving.Go(func() { s.insync.run(keeping, s) })
	s.serving.Go(func() { s.certificate.Run(keeping) })
	if err := s.Office.ResumeMove(keeping); err != nil {
		s.log.Error("the move of a store does not go on", "cause", err)
	}
	return nil
}

// housekeepingPace is how often the trail is looked through for what may go.
const housekeepingPace = time.Hour

// housekeep does what is to be done now and then, until the service stops.
func (s *Service) housekeep(ctx context.Context) {
	tick := time.NewTicker(housekeepingPace)
	defer tick.Stop()
	for {
		s.door.dropLeftUploads(ctx)
		s.door.emptyBins(ctx)
		if err := s.DB.DropEndedPasses(ctx, time.Now()); err != nil && ctx.Err() == nil {
			s.log.Error("passes that ended long ago not forgotten", "cause", err)
		}
		if _, err := s.Office.Retire(ctx, office.Actor{}); err != nil && ctx.Err() == nil {
			s.log.Error("audit records not archived", "cause", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// atStart adds what can be done where no command reaches the service yet.
func atStart(l keep.Listener, err error) error {
	var field *keep.FieldError
	if errors.As(err, &field) {
		return fmt.Errorf("%s: give it another address with serve -listener %s=ADDRESS, or stop it with =off", field.Say, l.Name)
	}
	return err
}

// run serves in a goroutine that Stop waits for; its failure ends the service.
func (s *Service) run(serve func() error) {
	s.serving.Go(func() {
		if err := serve(); err != nil {
			select {
			case s.failed <- err:
			default:
			}
		}
	})
}

// Failed tells of a listener that broke.
func (s *Service) Failed() <-chan error { return s.failed }

// Stop takes no new connections, lets running transfers end until ctx is done,
// cuts the rest, and closes the records.
func (s *Service) Stop(ctx context.Context) error {
	if s.quit != nil {
		s.quit()
	}
	if s.Office != nil {
		s.Office.EndMoves()
	}
	if s.paths != nil {
		s.paths.cancel()
	}
	s.posts.shutDown(ctx)
	if s.portal != nil {
		s.portal.Close()
		s.passes.Close()
		s.dav.Close()
	}
	if s.paths != nil {
		s.paths.stop(ctx)
	}
	s.serving.Wait()
	if s.door != nil {
		s.door.fresh.Close()
	}
	if s.paths != nil {
		s.Trail.Note(keep.AuditRecord{Action: keep.ServiceStop, Outcome: keep.Done})
	}
	return s.close()
}

func (s *Service) close() error {
	s.Traffic.Close()
	if s.ledger != nil {
		s.ledger.Close()
	}
	if s.Series != nil {
		s.Series.Close()
	}
	if s.collector != nil {
		s.collector.Close()
	}
	var untold error
	if s.teller != nil {
		untold = s.teller.Close()
	}
	if s.repeats != nil {
		s.repeats.Close()
		s.keepGuard()
	}
	if s.book != nil {
		s.book.Close()
	}
	if s.Trail != nil {
		s.Trail.Close()
	}
	s.Stores.Close()
	return errors.Join(untold, s.sleep(), s.DB.Close())
}

// counted records that a folder held something else than was known: it was
// changed behind the service's back.
func (s *Service) counted(d quota.Difference) {
	s.Trail.Note(keep.AuditRecord{Action: keep.QuotaRecount, Target: d.Spot.Store + ":" + d.Spot.Path, Outcome: keep.Done, Detail: d.String()})
}

// Promise puts in force what an acknowledgement promises of the trail. It implements [office.Live].
func (s *Service) Promise(d keep.Durability) { s.power.Store(d == keep.Power) }

// Admit puts the network rules of the service in force. It implements [office.Live].
func (d *door) Admit(rules keep.Rules) { d.gate.Store(&rules) }

// Status is how the service is.
func (s *Service) Status(ctx context.Context) (api.Status, error) {
	operators, err := s.DB.Operators(ctx)
	sessions, transfers := s.Traffic.Counts()
	problems, perr := s.problems(ctx)
	return api.Status{SetUp: len(operators) > 0, Started: s.started, Sessions: sessions, Transfers: transfers, Problems: problems}, errors.Join(err, perr)
}
