package sftp

import (
	"encoding/binary"
	"errors"
	"io"
	"sync"
	"sync/atomic"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// What one session may take: files and folders open at once, and requests that
// are being answered at once, of which a large packet counts as several. That
// bounds its memory whatever a client sends or does not read: two large packets
// or eight small ones, and a reply for each, 2.5 MiB.
const (
	maxHandles  = 256
	maxInFlight = 8
	largeWeight = 4
)

// session is one sftp subsystem. The client may send as many requests ahead as it
// likes. Requests that concern one handle are answered in the order they came, and
// one that names a path waits for all before it, so that the result is what a
// sequential client would get. What may take long (a file's end that waits for the
// disk, a hash) is answered beside the rest, so that other files go on: replies
// come out of order then. What is quick is answered at once by the goroutine that
// reads: handing each over to another cost a tenth of the speed.
type session struct {
	conn     *conn
	channel  ssh.Channel
	tree     *tree.Tree
	places   chan struct{}  // one for each request in flight
	inFlight sync.WaitGroup // those that are answered beside the reading goroutine
	replying sync.Mutex     // a reply is written whole
	gone     atomic.Bool    // the client is: what it still asked for is left undone

	mu      sync.Mutex
	handles map[uint32]*handle
	next    uint32
	ahead   *handle // the one folder of the session that is read ahead; nil: none

	reading sync.WaitGroup // who reads ahead
}

// handle is an open file or an open folder.
type handle struct {
	number  uint32
	file    *tree.File
	path    string
	folder  *tree.Listing // an open folder; nil: it is a file
	ahead   chan struct{} // closed once the folder was read ahead; nil: it is not
	waiting []*request    // the first is being answered; under session.mu
	closed  bool          // by a request that came before; under session.mu
}

// request is one packet on its way to its answer.
type request struct {
	s      *session
	weight int // places it takes
	kind   kind
	id     uint32
	d      decoder
	packet []byte // what d reads, pooled
	h      *handle
	out    encoder
	closed bool // it closed a file
}

func newSession(c *conn, channel ssh.Channel) *session {
	return &session{conn: c, channel: channel, tree: c.tree, places: make(chan struct{}, maxInFlight), handles: map[uint32]*handle{}}
}

// run answers requests until the client leaves or breaks the protocol.
func (s *session) run() {
	defer s.closeAll()
	if !s.greet() {
		return
	}
	for !s.gone.Load() {
		packet, weight, err := s.receive()
		if err != nil {
			if !errors.Is(err, io.EOF) {
				s.conn.server.Log.Debug("SFTP session ended", "cause", err)
			}
			return
		}
		s.conn.idle.Reset(s.conn.tree.Idle(s.conn.server.Timeouts.Idle))
		r := &request{s: s, weight: weight, packet: packet, d: decoder{b: packet[1:]}}
		r.id = r.d.uint32()
		if r.d.err != nil {
			return // nothing to answer to
		}
		s.dispatch(packet[0], r)
	}
}

// receive reads the next packet once there is room for it.
func (s *session) receive() (packet []byte, weight int, err error) {
	size, err := readSize(s.channel)
	if err != nil {
		return nil, 0, err
	}
	weight = 1
	if size > mediumBuffer {
		weight = largeWeight
	}
	for range weight {
		s.places <- struct{}{}
	}
	packet, err = readPacket(s.channel, size)
	return packet, weight, err
}

// dispatch answers a request, or has it answered in its handle's turn.
func (s *session) dispatch(code byte, r *request) {
	known := true
	if code == pktExtended {
		r.kind, known = extensionNamed(&r.d)
	} else {
		r.kind, known = kinds[code]
	}
	if !known {
		r.kind = kind{answer: func(*request) error { return errUnsupported }}
	}
	if r.kind.turn != onPath {
		if r.h = s.handle(&r.d); r.h == nil {
			r.kind.answer = func(*request) error { return errHandle }
		}
	}
	if r.h == nil {
		s.inFlight.Wait()
		r.finish()
		return
	}
	s.mu.Lock()
	first := len(r.h.waiting) == 0
	beside := !first || r.kind.turn == slowOnHandle || r.kind.turn == endOnHandle && r.h.file != nil && r.h.file.Waits()
	if beside {
		s.inFlight.Add(1)
		r.h.waiting = append(r.h.waiting, r)
	}
	s.mu.Unlock()
	switch {
	case !beside:
		r.finish()
	case first:
		go s.serve(r.h, r)
	}
}

// serve answers what waits for a handle, in order, until nothing does.
func (s *session) serve(h *handle, r *request) {
	for r != nil {
		r.finish()
		s.mu.Lock()
		h.waiting = h.waiting[1:]
		r = nil
		if len(h.waiting) > 0 {
			r = h.waiting[0]
		}
		s.mu.Unlock()
		s.inFlight.Done()
	}
}

// work does what was asked for, however long it takes: a session that waits for the service is not idle.
func (c *conn) work(do func() error) error {
	c.busy.Add(1)
	defer func() {
		c.busy.Add(-1)
		c.idle.Reset(c.tree.Idle(c.server.Timeouts.Idle))
	}()
	return do()
}

// isIdle ends a connection on which nothing was asked for too long.
func (c *conn) isIdle() {
	if c.busy.Load() > 0 {
		c.idle.Reset(c.tree.Idle(c.server.Timeouts.Idle))
		return
	}
	c.cut(keep.Refuse(keep.Stalled, "nothing was asked for too long"))
}

// greet agrees on version 3 (section 4).
func (s *session) greet() bool {
	packet, weight, err := s.receive()
	if err != nil || packet[0] != pktInit || len(packet) < 5 {
		return false
	}
	if binary.BigEndian.Uint32(packet[1:5]) < 3 {
		return false
	}
	var out encoder
	out.b = append(out.b, 0, 0, 0, 0, pktVersion)
	out.uint32(3)
	for _, e := range extensions {
		if e.version != "" {
			out.string(e.name)
			out.string(e.version)
		}
	}
	_, err = s.channel.Write(out.finish())
	s.leave(weight)
	return err == nil
}

// leave gives up places.
func (s *session) leave(weight int) {
	for range weight {
		<-s.places
	}
}

// finish answers the request, sends its one reply, and gives back what it took.
func (r *request) finish() {
	s := r.s
	replied := false
	defer func() {
		release(r.packet)
		release(r.out.b)
		if r.closed {
			s.conn.opened(-1)
		}
		if !replied { // a fault of the program: the client must not wait for ever
			s.conn.cut(keep.Refuse(keep.Failure, "the service failed; its log says why"))
		}
		s.leave(r.weight)
	}()
	defer wire.Rescue(s.conn.server.Log, s.conn.raw.RemoteAddr())
	err := s.conn.work(func() error { return r.kind.answer(r) })
	if r.d.err != nil {
		err = errBadMessage
	}
	if err != nil || len(r.out.b) == 0 {
		r.status(err)
	}
	s.replying.Lock()
	defer s.replying.Unlock()
	if _, err := s.channel.Write(r.out.finish()); err != nil {
		s.gone.Store(true)
	}
	replied = true
}

// start begins the reply.
func (r *request) start(code byte) {
	if r.out.b == nil {
		r.out.b = buffer(smallBuffer)
	}
	r.out.start(code, r.id)
}

// status is an error that is a status code.
type status struct {
	code uint32
	text string
}

func (e status) Error() string { return e.text }

var (
	errUnsupported error = status{statusUnsupported, "this service does not know that request"}
	errBadMessage  error = status{statusBadMessage, "the request is malformed"}
	errHandle      error = status{statusFailure, "no such handle"}
	errEOF         error = status{statusEOF, "end"}
)

// status makes a status reply of an error; nil is success.
func (r *request) status(err error) {
	code, text := uint32(statusOK), "done"
	var st status
	switch {
	case err == nil:
	case errors.As(err, &st):
		code, text = st.code, st.text
	default:
		fault := keep.FaultOf(err)
		if fault.Reason == keep.Failure {
			r.s.conn.server.Log.Error("request failed", "account", r.s.tree.Account(), "cause", fault.Cause)
		}
		code, text = codeOf(fault.Reason), fault.Say
	}
	r.start(pktStatus)
	r.out.uint32(code)
	r.out.string(text)
	r.out.string("en")
}

// codeOf gives each reason its status code (section 7).
func codeOf(reason keep.Reason) uint32 {
	switch reason {
	case keep.NotFound:
		return statusNoSuchFile
	case keep.NoRight, keep.ReadOnlyMount, keep.Outside, keep.ProtocolRefused, keep.MountPoint, keep.BadName:
		return statusDenied
	}
	return statusFailure
}

// keep gives an open file or folder a handle and replies with it.
func (r *request) keep(h *handle) error {
	s := r.s
	s.mu.Lock()
	s.next++
	h.number = s.next
	s.handles[h.number] = h
	s.mu.Unlock()
	r.start(pktHandle)
	r.out.uint32(4)
	r.out.uint32(h.number)
	return nil
}

func (s *session) room() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.handles) >= maxHandles {
		return status{statusFailure, "too many files and folders are open: close some"}
	}
	return nil
}

// handle takes a handle off a packet and finds what it stands for; nil when nothing.
func (s *session) handle(d *decoder) *handle {
	name := d.bytes()
	if len(name) != 4 {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.handles[binary.BigEndian.Uint32(name)]
}

// forget takes a handle back.
func (s *session) forget(h *handle) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h.closed = true
	delete(s.handles, h.number)
}

// handle is what the request is about: found when it came, and open still unless
// a request before it closed it. A request about two handles takes the next.
func (r *request) handle() (*handle, error) {
	h := r.h
	if h == nil {
		h = r.s.handle(&r.d)
	}
	if h == nil {
		return nil, errHandle
	}
	r.s.mu.Lock()
	defer r.s.mu.Unlock()
	if h.closed {
		return nil, errHandle
	}
	return h, nil
}

// file is the open file that the request is about.
func (r *request) file() (*tree.File, error) {
	h, err := r.handle()
	if err != nil {
		return nil, err
	}
	if h.file == nil {
		return nil, status{statusFailure, "that handle is a folder"}
	}
	return h.file, nil
}

// readAhead reads a folder's next names while the client takes in those that it was
// sent; of one folder at a time, so that a session holds names for one reply at most.
func (s *session) readAhead(h *handle) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ahead != nil {
		return
	}
	ready := make(chan struct{})
	s.ahead, h.ahead = h, ready
	s.reading.Go(func() {
		defer close(ready)
		h.folder.ReadAhead(s.conn.listRead())
	})
}

// awaitAhead waits until nobody else reads the folder.
func (s *session) awaitAhead(h *handle) {
	if h.ahead == nil {
		return
	}
	<-h.ahead
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ahead, h.ahead = nil, nil
}

// closeAll ends what the client left open: its transfers were interrupted.
func (s *session) closeAll() {
	s.inFlight.Wait()
	s.reading.Wait()
	why := s.conn.cutReason()
	if why == nil {
		why = keep.Refuse(keep.ClientGone, "the client left before closing the file")
	}
	for _, h := range s.handles {
		if h.file != nil {
			h.file.Abort(why)
			s.conn.opened(-1)
		} else {
			h.folder.Close()
		}
	}
}
