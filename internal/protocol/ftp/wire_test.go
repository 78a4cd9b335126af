package ftp

import (
	"bytes"
	"errors"
	"io"
	"net"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCommandLinesLoseTheirTelnetCodes(t *testing.T) {
	for in, want := range map[string]string{
		"NOOP\r\n":                               "NOOP",
		"NOOP\n":                                 "NOOP",
		"\xff\xf4\xff\xf2ABOR\r\n":               "ABOR", // IP, DM
		"\xff\xf4\xffABOR\r\n":                   "ABOR", // IP, then the IAC whose DM went as urgent data
		"\xff\xfd\x06RETR a\r\n":                 "RETR a",
		"RETR a\xff\xffb\r\n":                    "RETR a\xffb",
		"RETR " + strings.Repeat("x", 90) + "\n": "RETR " + strings.Repeat("x", 90),
	} {
		line, err := newLineReader(iotest.OneByteReader(strings.NewReader(in))).read()
		require.NoError(t, err)
		assert.Equal(t, want, line)
	}
}

func TestALineThatIsTooLongIsSkippedWhole(t *testing.T) {
	r := newLineReader(strings.NewReader("STOR " + strings.Repeat("x", 3*maxLine) + "\r\nNOOP\r\n"))
	_, err := r.read()
	assert.ErrorIs(t, err, errLineTooLong)
	line, err := r.read()
	require.NoError(t, err)
	assert.Equal(t, "NOOP", line)
}

func FuzzLines(f *testing.F) {
	f.Add([]byte("USER a\r\nPASS \xff\xf4b\r\n"))
	f.Add([]byte("\xff"))
	f.Add([]byte("\xff\xfb"))
	f.Fuzz(func(t *testing.T, in []byte) {
		r := newLineReader(iotest.HalfReader(bytes.NewReader(in)))
		for {
			line, err := r.read()
			if errors.Is(err, errLineTooLong) {
				continue
			}
			if err != nil {
				return
			}
			if len(line) > maxLine || strings.Contains(line, "\n") {
				t.Fatalf("%q", line)
			}
		}
	})
}

func FuzzASCIIComesBackFromAnyEdge(f *testing.F) {
	for _, seed := range []string{"a\nb\n", "\n\n", "a\rb", "\r\r\n", "\r", "end\r", ""} {
		f.Add([]byte(seed), uint8(3))
	}
	f.Fuzz(func(t *testing.T, text []byte, edge uint8) {
		if bytes.Contains(text, []byte("\r\n")) {
			return // what is CRLF on the disk is CRLF on the wire too
		}
		var wire bytes.Buffer
		out := &asciiWriter{w: &wire}
		for part := range bytes.SplitAfterSeq(text, []byte{'e'}) {
			if _, err := out.Write(part); err != nil {
				t.Fatal(err)
			}
		}
		if n := bytes.Count(wire.Bytes(), []byte("\n")); n != bytes.Count(wire.Bytes(), []byte("\r\n")) {
			t.Fatalf("%q went out as %q", text, wire.Bytes())
		}
		var back bytes.Buffer
		in := &asciiReader{r: iotest.HalfReader(&wire)}
		buf := make([]byte, int(edge)%7+2)
		if _, err := io.CopyBuffer(struct{ io.Writer }{&back}, struct{ io.Reader }{in}, buf); err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(back.Bytes(), text) {
			t.Fatalf("%q came back as %q", text, back.Bytes())
		}
	})
}

func TestNobodyCanTellWhichPassivePortIsNext(t *testing.T) {
	r := portRange{low: 20_000, high: 40_000}
	inTurn := true
	for last := 0; last == 0 || len(r.taken) < 6; {
		l, release, err := r.listen("127.0.0.1")
		require.NoError(t, err)
		defer release()
		defer l.Close()
		port := l.Addr().(*net.TCPAddr).Port
		inTurn = inTurn && (last == 0 || port == last+1)
		last = port
	}
	assert.False(t, inTurn)
}
