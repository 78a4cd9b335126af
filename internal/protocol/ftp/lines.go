package ftp

import (
	"bufio"
	"errors"
	"io"
)

// maxLine bounds a command line, bytes: the longest path and a verb.
const maxLine = 4096 + 64

var errLineTooLong = errors.New("the command line is too long")

// Telnet codes (RFC 854) that may stand in a command line.
const (
	telnetIAC  = 255
	telnetWill = 251
	telnetDont = 254
)

// lineReader reads command lines and takes the Telnet codes out.
type lineReader struct{ r *bufio.Reader }

func newLineReader(r io.Reader) *lineReader { return &lineReader{bufio.NewReaderSize(r, 1024)} }

// buffered reports whether the client has sent more than was read.
func (l *lineReader) buffered() bool { return l.r.Buffered() > 0 }

// read gives the next line without its end. A line that is too long is skipped
// to its end before [errLineTooLong].
func (l *lineReader) read() (string, error) {
	var line []byte
	long := false
	for {
		b, err := l.r.ReadByte()
		if err != nil {
			return "", err
		}
		if b == telnetIAC {
			if b, err = l.afterIAC(); err != nil {
				return "", err
			}
			if b == 0 {
				continue
			}
		}
		if b == '\n' {
			break
		}
		if len(line) >= maxLine {
			long = true
			continue
		}
		line = append(line, b)
	}
	if long {
		return "", errLineTooLong
	}
	if n := len(line); n > 0 && line[n-1] == '\r' {
		line = line[:n-1]
	}
	return string(line), nil
}

// afterIAC takes a Telnet code off; 0 when nothing of it belongs to the line.
// Where the urgent byte of a Synch is not in the stream (see inlineUrgent), a lone IAC may
// stand right before a command; the byte after it is the command's.
func (l *lineReader) afterIAC() (byte, error) {
	b, err := l.r.ReadByte()
	if err != nil || b == telnetIAC {
		return b, err
	}
	if b >= telnetWill && b <= telnetDont {
		_, err := l.r.ReadByte() // the option
		return 0, err
	}
	if b >= 240 { // a code without an option: IP, DM, NOP, …
		return 0, nil
	}
	return b, nil
}
