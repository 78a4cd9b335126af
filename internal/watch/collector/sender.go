package collector

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"strconv"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

const (
	// Settled is how long a connection must live on after a message was sent before
	// the message counts as delivered. It is longer than unacked.
	Settled = 20 * time.Second
	// unacked is how long the other side's system may leave bytes unacknowledged
	// before the connection counts as broken.
	unacked = 15 * time.Second
	// dialTime and writeTime bound what waits for the collector.
	dialTime  = 10 * time.Second
	writeTime = 15 * time.Second
	// leastPause and mostPause lie between two tries to reach it.
	leastPause = 500 * time.Millisecond
	mostPause  = 30 * time.Second
	// goodbye is how long the collector may take to close its side at the end.
	goodbye = 2 * time.Second
	// pageLength bounds the records read at once.
	pageLength = 500
	// mostDatagram is how long a message over UDP may be to keep its detail, bytes.
	mostDatagram = 8000
)

// The settings that keep where to send, how far that has come, and where it was sent before it was sent nowhere.
const (
	setting = "collector"
	cursor  = "collector-cursor"
	was     = "collector-was"
)

// Sender sends the trail to the collector that is set, from one goroutine.
type Sender struct {
	db      *records.DB
	log     *slog.Logger
	settled time.Duration
	host    string
	wake    chan struct{}

	setting sync.Mutex // one change at a time

	mu    sync.Mutex
	state State
	stop  context.CancelFunc // of the goroutine that sends; nil: none does
	over  *sync.WaitGroup
}

// State is how the sending does.
type State struct {
	keep.Collector
	Connected bool
	Sent      int64     // the last record that counts as delivered
	Waiting   int64     // records behind it
	Trouble   string    // why it does not go on; "" when it does
	Since     time.Time // since when it is so
}

// Open begins to send where it was left off.
func Open(ctx context.Context, db *records.DB, settled time.Duration, log *slog.Logger) (*Sender, error) {
	host, err := os.Hostname()
	if err != nil {
		host = "-"
	}
	s := &Sender{db: db, log: log, settled: settled, host: host, wake: make(chan struct{}, 1)}
	text, err := db.Setting(ctx, setting)
	if err != nil || text == "" {
		return s, err
	}
	var to keep.Collector
	if err := json.Unmarshal([]byte(text), &to); err != nil {
		return nil, fmt.Errorf("read where audit records are sent: %w", err)
	}
	at, err := s.reached(ctx)
	if err == nil {
		s.begin(to, at)
	}
	return s, err
}

// reached is how far it has come, as it is kept.
func (s *Sender) reached(ctx context.Context) (int64, error) {
	text, err := s.db.Setting(ctx, cursor)
	at, _ := strconv.ParseInt(text, 10, 64)
	return at, err
}

// Set sends to another collector from now on; nowhere when its address is empty. A new one gets what is recorded from now on; a
// changed one, and one that comes back after it was sent nowhere, what it did not get before. save carries out what is written, in
// a transaction of the caller's; nothing is sent meanwhile.
func (s *Sender) Set(ctx context.Context, to keep.Collector, save func(write func(context.Context) error) error) error {
	if err := check(to); err != nil {
		return err
	}
	text, err := json.Marshal(to)
	if err != nil {
		return err
	}
	s.setting.Lock()
	defer s.setting.Unlock()
	before := s.State(ctx).Collector
	s.Close()
	at, err := s.reached(ctx)
	if err != nil {
		s.begin(before, at)
		return err
	}
	from := at
	if before.Address == "" {
		known, err := s.db.Setting(ctx, was)
		if err != nil {
			return err
		}
		last, err := s.db.LastAudit(ctx)
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			return err
		}
		if known != to.Address || at > last.Seq {
			from = last.Seq
		}
	}
	err = save(func(ctx context.Context) error {
		for name, value := range map[string]string{setting: string(text), cursor: fmt.Sprint(from)} {
			if err := s.db.SaveSetting(ctx, name, value); err != nil {
				return err
			}
		}
		if before.Address != "" {
			return s.db.SaveSetting(ctx, was, before.Address)
		}
		return nil
	})
	if err != nil {
		s.begin(before, at)
		return err
	}
	s.begin(to, from)
	return nil
}

// begin sends what comes after a record.
func (s *Sender) begin(to keep.Collector, at int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.state = State{Collector: to, Sent: at, Since: time.Now().UTC()}
	if to.Address == "" {
		return
	}
	running, stop := context.WithCancel(context.Background())
	s.stop, s.over = stop, new(sync.WaitGroup)
	s.over.Go(func() { s.run(running, to, at) })
}

// Close ends the sending and leaves the rest for the next start.
func (s *Sender) Close() {
	s.mu.Lock()
	stop, over := s.stop, s.over
	s.stop = nil
	s.mu.Unlock()
	if stop != nil {
		stop()
		over.Wait()
	}
}

// Recorded tells that there are new records. It does not wait.
func (s *Sender) Recorded([]keep.AuditRecord) {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// State says how the sending does.
func (s *Sender) State(ctx context.Context) State {
	last, err := s.db.LastAudit(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.state
	if err == nil && now.Address != "" {
		now.Waiting = max(0, last.Seq-now.Sent)
	}
	return now
}

// note keeps how it does, and says it once.
func (s *Sender) note(connected bool, trouble string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state.Connected == connected && s.state.Trouble == trouble {
		return
	}
	if trouble != "" && s.state.Trouble == "" {
		s.log.Warn("audit records wait for their collector", "collector", s.state.Address, "cause", trouble)
	}
	s.state.Connected, s.state.Trouble, s.state.Since = connected, trouble, time.Now().UTC()
}

// run sends until it is stopped; at is what counts as delivered.
func (s *Sender) run(ctx context.Context, to keep.Collector, at int64) {
	for pause := leastPause; ctx.Err() == nil; pause = min(2*pause, mostPause) {
		began := time.Now()
		reached, err := s.connect(ctx, to, at)
		if reached > at || time.Since(began) > mostPause {
			pause = leastPause
		}
		if at = reached; ctx.Err() != nil {
			return
		}
		s.note(false, err.Error())
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
	}
}

// connect makes a connection and sends on it until it breaks. It returns what counts
// as delivered by then.
func (s *Sender) connect(ctx context.Context, to keep.Collector, at int64) (int64, error) {
	conn, err := dial(ctx, to)
	if err != nil {
		return at, err
	}
	l := &line{Sender: s, conn: conn, delivered: at, sent: at, broken: make(chan error, 1)}
	_, l.datagrams = conn.(*net.UDPConn)
	s.note(true, "")
	var listening sync.WaitGroup
	listening.Go(l.listen)
	err = l.send(ctx)
	if ctx.Err() != nil {
		l.bye()
	}
	conn.Close()
	listening.Wait()
	s.save(l.delivered)
	return l.delivered, err
}

// save keeps what counts as delivered.
func (s *Sender) save(delivered int64) {
	s.mu.Lock()
	known := s.state.Sent >= delivered
	s.state.Sent = max(s.state.Sent, delivered)
	s.mu.Unlock()
	if known {
		return
	}
	if err := s.db.SaveSetting(context.Background(), cursor, fmt.Sprint(delivered)); err != nil {
		s.log.Error("how far the collector has come was not saved", "cause", err)
	}
}

// line is one connection.
type line struct {
	*Sender
	conn      net.Conn
	datagrams bool
	broken    chan error
	sent      int64
	delivered int64
	young     []batch // sent, and not yet counted as delivered; oldest first
}

type batch struct {
	last int64
	at   time.Time
}

// listen finds out when the collector goes: it has nothing to say.
func (l *line) listen() {
	_, err := io.Copy(io.Discard, l.conn)
	if err == nil {
		err = errors.New("the collector closed the connection")
	}
	l.broken <- err
}

func (l *line) send(ctx context.Context) error {
	tick := time.NewTicker(max(l.settled/10, time.Millisecond))
	defer tick.Stop()
	for {
		page, err := l.db.AuditAfter(ctx, l.sent, pageLength)
		if err != nil {
			return err
		}
		if err := l.write(page); err != nil {
			return err
		}
		l.settle(time.Now())
		if len(page) == pageLength {
			continue
		}
		select {
		case <-l.wake:
		case <-tick.C:
		case err := <-l.broken:
			l.broken <- err
			return err
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (l *line) write(page []records.ChainedRecord) error {
	if len(page) == 0 {
		return nil
	}
	l.conn.SetWriteDeadline(time.Now().Add(writeTime))
	out := bufio.NewWriterSize(l.conn, 64<<10)
	for i := range page {
		message := audit.Syslog(l.host, &page[i].AuditRecord)
		var err error
		if l.datagrams {
			if len(message) > mostDatagram {
				page[i].Detail, page[i].Before, page[i].After = "", nil, nil
				message = audit.Syslog(l.host, &page[i].AuditRecord)
			}
			_, err = l.conn.Write([]byte(message))
		} else {
			_, err = fmt.Fprintf(out, "%d %s", len(message), message)
		}
		if err != nil {
			return err
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	l.sent = page[len(page)-1].Seq
	l.young = append(l.young, batch{l.sent, time.Now()})
	return nil
}

// settle counts what is old enough as delivered.
func (l *line) settle(now time.Time) {
	before := l.delivered
	for len(l.young) > 0 && now.Sub(l.young[0].at) > l.settled {
		l.delivered, l.young = l.young[0].last, l.young[1:]
	}
	if l.delivered > before {
		l.save(l.delivered)
	}
}

// bye ends the connection properly: when the collector closes its side in turn, it has
// read everything.
func (l *line) bye() {
	half, ok := l.conn.(interface{ CloseWrite() error })
	if !ok || half.CloseWrite() != nil {
		return
	}
	l.conn.SetReadDeadline(time.Now().Add(goodbye))
	if err := <-l.broken; err.Error() == "the collector closed the connection" {
		l.delivered = l.sent
	}
}
