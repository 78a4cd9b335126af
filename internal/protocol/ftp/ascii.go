package ftp

import (
	"bufio"
	"io"
)

// asciiWriter turns line feeds into CRLF (RFC 959, section 3.1.1.1). A CRLF that
// is there already stays one, also when it falls on the edge of two buffers.
type asciiWriter struct {
	w    io.Writer
	last byte
	buf  []byte
}

func (a *asciiWriter) Write(p []byte) (int, error) {
	a.buf = a.buf[:0]
	for _, b := range p {
		if b == '\n' && a.last != '\r' {
			a.buf = append(a.buf, '\r')
		}
		a.buf = append(a.buf, b)
		a.last = b
	}
	if _, err := a.w.Write(a.buf); err != nil {
		return 0, err
	}
	return len(p), nil
}

// asciiReader turns CRLF into line feeds. A lone CR stays.
type asciiReader struct {
	r    io.Reader
	cr   bool // a CR was held back at the edge of a buffer
	done error
}

func (a *asciiReader) Read(p []byte) (int, error) {
	if len(p) < 2 {
		return 0, io.ErrShortBuffer
	}
	for {
		if a.done != nil {
			if a.cr {
				a.cr = false
				p[0] = '\r'
				return 1, nil
			}
			return 0, a.done
		}
		// One byte is left free for a CR that was held back.
		in := p[1:]
		n, err := a.r.Read(in)
		a.done = err
		if out := a.convert(p, in[:n]); out > 0 {
			return out, nil
		}
	}
}

// convert writes in, which lies one byte behind the start of out, into out.
func (a *asciiReader) convert(out, in []byte) int {
	w := 0
	for _, b := range in {
		if a.cr && b != '\n' {
			out[w] = '\r'
			w++
		}
		a.cr = b == '\r'
		if !a.cr {
			out[w] = b
			w++
		}
	}
	return w
}

// skipWriter leaves out the first bytes.
type skipWriter struct {
	w    io.Writer
	skip int64
}

func (s *skipWriter) Write(p []byte) (int, error) {
	left := p[min(int64(len(p)), s.skip):]
	s.skip -= int64(len(p) - len(left))
	if len(left) == 0 {
		return len(p), nil
	}
	if _, err := s.w.Write(left); err != nil {
		return 0, err
	}
	return len(p), nil
}

// textOffset finds the place in a file at which so many bytes of it would have
// been sent as ASCII.
func textOffset(f io.ReaderAt, sent int64) (int64, error) {
	in := bufio.NewReaderSize(io.NewSectionReader(f, 0, 1<<62), 64<<10)
	last, at := byte(0), int64(0)
	for sent > 0 {
		b, err := in.ReadByte()
		if err == io.EOF {
			return 0, fail{554, "the file is shorter than that"}
		}
		if err != nil {
			return 0, err
		}
		if b == '\n' && last != '\r' {
			sent--
		}
		sent--
		at++
		last = b
	}
	if sent < 0 {
		return 0, fail{554, "that is between the two bytes of a line's end"}
	}
	return at, nil
}
