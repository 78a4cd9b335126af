package scp

import (
	"bufio"
	"errors"
	"io"
	"strings"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// Session answers one command.
type Session struct {
	Tree *tree.Tree
	Line io.ReadWriter // to the client
	// Stop ends the line, for a transfer that was ended while the client is silent.
	Stop func()
	// Opened counts open files; Work does what may take long without the client.
	Opened func(delta int)
	Work   func(do func() error) error
	// Gone is why a transfer ends in the middle, where somebody said so; nil: the client left.
	Gone func() *keep.Fault
	// Failed takes what only the log may say.
	Failed func(err error)

	in     *bufio.Reader
	faults int // what could not be done
}

const (
	// maxLine bounds a control line, bytes; maxDepth how deep folders may lie in one another.
	maxLine  = 8 << 10
	maxDepth = 64
)

// errOver ends a session: the client left, or does not speak the protocol.
var errOver = errors.New("the session is over")

// Run answers until the client is done, and gives the exit status.
func (s *Session) Run(c *Command) int {
	s.in = bufio.NewReaderSize(s.Line, 64<<10)
	var err error
	if c.To {
		err = s.take(c)
	} else {
		err = s.send(c)
	}
	if err != nil || s.faults > 0 {
		return 1
	}
	return 0
}

// Refuse tells a client of scp why nothing of what it wants is done.
func Refuse(line io.Writer, err error) {
	io.WriteString(line, "\x01scp: "+oneLine(keep.FaultOf(err).Say)+"\n")
}

// ok answers that all is well.
func (s *Session) ok() error {
	_, err := s.Line.Write([]byte{0})
	return over(err)
}

// fault answers that something can't be done, and goes on.
func (s *Session) fault(at string, err error) error {
	s.faults++
	why := keep.FaultOf(err)
	if why.Reason == keep.Failure {
		s.Failed(why)
	}
	_, err = io.WriteString(s.Line, "\x01scp: "+oneLine(at+": "+why.Say)+"\n")
	return over(err)
}

// broken answers that the client does not speak the protocol, and ends.
func (s *Session) broken(say string) error {
	s.faults++
	io.WriteString(s.Line, "\x02scp: protocol error: "+oneLine(say)+"\n")
	return errOver
}

func over(err error) error {
	if err != nil {
		return errOver
	}
	return nil
}

// oneLine is a text for a terminal: without what would end the line, or command it.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return '?'
		}
		return r
	}, text)
}

// line reads a control line, without its end; [errOver] where none comes.
func (s *Session) line() (string, error) {
	var text []byte
	for {
		b, err := s.in.ReadByte()
		if err != nil {
			return "", errOver
		}
		if b == '\n' {
			return string(text), nil
		}
		if text = append(text, b); len(text) > maxLine {
			return "", s.broken("a line is too long")
		}
	}
}

// answered reads what the client says of the last line; false where it can't do what that asks for.
func (s *Session) answered() (bool, error) {
	switch b, err := s.in.ReadByte(); {
	case err != nil:
		return false, errOver
	case b == 0:
		return true, nil
	case b == 1, b == 2:
		s.faults++
		if _, err := s.line(); err != nil || b == 2 {
			return false, errOver
		}
		return false, nil
	}
	return false, s.broken("an answer is none")
}

// clean is a name of the client's as a path of the tree.
func clean(name string) (string, error) { return keep.CleanPath("/", name) }

// why is the reason for a transfer that ended in the middle.
func (s *Session) why(f *tree.File) error {
	if stopped := f.Ended(); stopped != nil {
		return stopped
	}
	if fault := s.Gone(); fault != nil {
		return fault
	}
	return keep.Refuse(keep.ClientGone, "the client left before the end of the file")
}
