package sftp

import (
	"encoding/binary"
	"errors"
	"io"
	"io/fs"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
	"urbankeep/internal/tree"
)

// maxHandles bounds what one session may hold open.
const maxHandles = 256

// session is one sftp subsystem. Requests are answered in the order they come,
// so that the result is what a sequential client would get; the client may send
// as many ahead as it likes. Its memory is two packets.
type session struct {
	conn    *conn
	channel ssh.Channel
	tree    *tree.Tree
	handles map[uint32]handle
	next    uint32
	in      []byte
	out     encoder
	closed  int // open files that were closed by the request being answered
}

// handle is an open file or an open folder.
type handle struct {
	file    *tree.File
	path    string
	entries []fs.FileInfo // of a folder, not yet sent
}

func newSession(c *conn, channel ssh.Channel) *session {
	return &session{conn: c, channel: channel, tree: c.tree, handles: map[uint32]handle{}, in: make([]byte, maxPacket),
		out: encoder{make([]byte, 0, maxPacket)}}
}

// run answers requests until the client leaves or breaks the protocol.
func (s *session) run() {
	defer s.closeAll()
	if !s.greet() {
		return
	}
	for {
		packet, err := readPacket(s.channel, s.in)
		if err != nil {
			if !errors.Is(err, io.EOF) {
				s.conn.server.Log.Debug("SFTP session ended", "cause", err)
			}
			return
		}
		s.conn.idle.Reset(s.conn.server.Timeouts.Idle)
		d := &decoder{b: packet[1:]}
		id := d.uint32()
		if d.err != nil {
			return // nothing to answer to
		}
		if err := s.answer(packet[0], id, d); err != nil {
			return
		}
	}
}

// greet agrees on version 3 (section 4).
func (s *session) greet() bool {
	packet, err := readPacket(s.channel, s.in)
	if err != nil || packet[0] != pktInit || len(packet) < 5 {
		return false
	}
	if binary.BigEndian.Uint32(packet[1:5]) < 3 {
		return false
	}
	s.out.b = append(s.out.b[:0], 0, 0, 0, 0, pktVersion)
	s.out.uint32(3)
	for _, e := range extensions {
		if e.version != "" {
			s.out.string(e.name)
			s.out.string(e.version)
		}
	}
	_, err = s.channel.Write(s.out.finish())
	return err == nil
}

// answer runs one request and sends its one reply. An error ends the session.
func (s *session) answer(kind byte, id uint32, d *decoder) error {
	s.out.b = s.out.b[:0]
	err := errUnsupported
	if request, known := requests[kind]; known {
		err = request(s, id, d)
	}
	if d.err != nil {
		err = errBadMessage
	}
	if err != nil || len(s.out.b) == 0 {
		s.status(id, err)
	}
	_, werr := s.channel.Write(s.out.finish())
	if s.closed > 0 {
		s.conn.opened(-s.closed)
		s.closed = 0
	}
	return werr
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
func (s *session) status(id uint32, err error) {
	code, text := uint32(statusOK), "done"
	var st status
	switch {
	case err == nil:
	case errors.As(err, &st):
		code, text = st.code, st.text
	default:
		fault := keep.FaultOf(err)
		if fault.Reason == keep.Failure {
			s.conn.server.Log.Error("request failed", "account", s.tree.Account(), "cause", fault.Cause)
		}
		code, text = codeOf(fault.Reason), fault.Say
	}
	s.out.start(pktStatus, id)
	s.out.uint32(code)
	s.out.string(text)
	s.out.string("en")
}

// codeOf gives each reason its status code (section 7).
func codeOf(reason keep.Reason) uint32 {
	switch reason {
	case keep.NotFound:
		return statusNoSuchFile
	case keep.NoRight, keep.ReadOnlyMount, keep.Outside, keep.MountPoint, keep.BadName:
		return statusDenied
	}
	return statusFailure
}

// keep gives an open file or folder a handle and replies with it.
func (s *session) keep(id uint32, h handle) error {
	s.next++
	s.handles[s.next] = h
	s.out.start(pktHandle, id)
	s.out.uint32(4)
	s.out.uint32(s.next)
	return nil
}

func (s *session) room() error {
	if len(s.handles) >= maxHandles {
		return status{statusFailure, "too many files and folders are open: close some"}
	}
	return nil
}

// handle finds what the handle in a request stands for.
func (s *session) handle(d *decoder) (uint32, handle, error) {
	name := d.bytes()
	if len(name) != 4 {
		return 0, handle{}, errHandle
	}
	number := binary.BigEndian.Uint32(name)
	h, ok := s.handles[number]
	if !ok {
		return 0, handle{}, errHandle
	}
	return number, h, nil
}

// file finds an open file.
func (s *session) file(d *decoder) (*tree.File, error) {
	_, h, err := s.handle(d)
	if err == nil && h.file == nil {
		err = status{statusFailure, "that handle is a folder"}
	}
	return h.file, err
}

// closeAll ends what the client left open: its transfers were interrupted.
func (s *session) closeAll() {
	why := s.conn.cutReason()
	if why == nil {
		why = keep.Refuse(keep.ClientGone, "the client left before closing the file")
	}
	for _, h := range s.handles {
		if h.file != nil {
			h.file.Abort(why)
			s.conn.opened(-1)
		}
	}
}
