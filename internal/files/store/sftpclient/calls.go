package sftpclient

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"
)

// Attrs are the facts of a file, as far as the server tells them (section 5).
type Attrs struct {
	Known    uint32 // which of them
	Size     int64
	Bits     uint32 // of st_mode
	Modified time.Time
	Accessed time.Time
}

// Which facts are known.
const (
	HasSize, hasOwner, HasMode, HasTimes, hasMore = 1, 2, 4, 8, 1 << 31
)

// Attrs reads the facts of a file.
func (p *Parser) Attrs() (a Attrs) {
	a.Known = p.Uint32()
	if a.Known&HasSize != 0 {
		a.Size = int64(p.Uint64())
	}
	if a.Known&hasOwner != 0 {
		p.take(8)
	}
	if a.Known&HasMode != 0 {
		a.Bits = p.Uint32()
	}
	if a.Known&HasTimes != 0 {
		a.Accessed, a.Modified = time.Unix(int64(p.Uint32()), 0), time.Unix(int64(p.Uint32()), 0)
	}
	if a.Known&hasMore != 0 {
		for n := p.Uint32(); n > 0 && p.err == nil; n-- {
			p.bytes()
			p.bytes()
		}
	}
	return a
}

// Mode is the mode as the standard library has it.
func (a Attrs) Mode() fs.FileMode {
	mode := fs.FileMode(a.Bits & 0o777)
	switch a.Bits & 0o170000 {
	case 0o040000:
		mode |= fs.ModeDir
	case 0o120000:
		mode |= fs.ModeSymlink
	case 0o100000, 0:
	default:
		mode |= fs.ModeIrregular
	}
	return mode
}

// Name is one entry of a folder.
type Name struct {
	Name  string
	Attrs Attrs
}

// Open opens a file.
func (c *Client) Open(at string, flags uint32, attrs []byte) (handle string, err error) {
	return c.handle(c.Ask(PktOpen, Str(at), U32(flags), attrs))
}

// OpenDir opens a folder for reading.
func (c *Client) OpenDir(at string) (handle string, err error) {
	return c.handle(c.Ask(PktOpendir, Str(at)))
}

func (c *Client) handle(kind byte, body []byte, err error) (string, error) {
	if err == nil && kind != PktHandle {
		err = fmt.Errorf("packet %d came instead of a handle", kind)
	}
	if err != nil {
		return "", err
	}
	p := &Parser{b: body}
	return p.String(), p.err
}

// CloseHandle closes a file or folder.
func (c *Client) CloseHandle(handle string) error { return c.Do(PktClose, Str(handle)) }

// SendReadDir asks for more names; Names reads them.
func (c *Client) SendReadDir(handle string) <-chan Answer { return c.Send(PktReaddir, Str(handle)) }

// Names waits for names; [io.EOF] after the last.
func (c *Client) Names(to <-chan Answer) (found []Name, err error) {
	kind, body, err := c.Wait(to)
	if err == nil && kind != PktName {
		err = fmt.Errorf("packet %d came instead of names", kind)
	}
	if err != nil {
		return nil, err
	}
	p := &Parser{b: body}
	for n := p.Uint32(); n > 0 && p.err == nil; n-- {
		one := Name{Name: p.String()}
		p.bytes() // a line for people
		one.Attrs = p.Attrs()
		found = append(found, one)
	}
	return found, p.err
}

// Lstat gives the facts of a path, of a link its own.
func (c *Client) Lstat(at string) (Attrs, error) { return c.AttrsOf(c.Send(PktLstat, Str(at))) }

// Fstat gives the facts of an open file.
func (c *Client) Fstat(handle string) (Attrs, error) { return c.AttrsOf(c.Send(PktFstat, Str(handle))) }

// AttrsOf waits for facts.
func (c *Client) AttrsOf(to <-chan Answer) (a Attrs, err error) {
	kind, body, err := c.Wait(to)
	if err == nil && kind != PktAttrs {
		err = fmt.Errorf("packet %d came instead of attributes", kind)
	}
	if err != nil {
		return a, err
	}
	p := &Parser{b: body}
	a = p.Attrs()
	return a, p.err
}

// Text waits for one name, as of a link or a path.
func (c *Client) Text(to <-chan Answer) (string, error) {
	found, err := c.Names(to)
	if err == nil && len(found) != 1 {
		err = errors.New("not one name came")
	}
	if err != nil {
		return "", err
	}
	return found[0].Name, nil
}

// Mode, Times and Size are attributes to be set.
func Mode(mode fs.FileMode) []byte { return append(U32(HasMode), U32(uint32(mode.Perm()))...) }
func Size(size int64) []byte       { return append(U32(HasSize), U64(uint64(size))...) }
func Times(accessed, modified time.Time) []byte {
	return append(append(U32(HasTimes), U32(uint32(accessed.Unix()))...), U32(uint32(modified.Unix()))...)
}

// MaxRead and MaxWrite are how much goes into one packet, bytes.
func (c *Client) MaxRead() int  { return c.maxRead }
func (c *Client) MaxWrite() int { return c.maxWrite }

// SendRead asks for bytes of a file; Data reads them.
func (c *Client) SendRead(handle string, off int64, n int) <-chan Answer {
	return c.Send(PktRead, Str(handle), U64(uint64(off)), U32(uint32(n)))
}

// Data waits for bytes; [io.EOF] at the end.
func (c *Client) Data(to <-chan Answer) ([]byte, error) {
	kind, body, err := c.Wait(to)
	if err == nil && kind != PktData {
		err = fmt.Errorf("packet %d came instead of bytes", kind)
	}
	if err != nil {
		return nil, err
	}
	p := &Parser{b: body}
	data := p.bytes()
	if p.err == nil && len(data) == 0 {
		return nil, io.EOF
	}
	return data, p.err
}

// SendWrite writes bytes of a file; Wait gives how that went.
func (c *Client) SendWrite(handle string, off int64, b []byte) <-chan Answer {
	return c.Send(PktWrite, Str(handle), U64(uint64(off)), U32(uint32(len(b))), b)
}

// Extended makes a request of an extension.
func (c *Client) Extended(name string, parts ...[]byte) (byte, []byte, error) {
	if !c.Offers(name) {
		return 0, nil, &Status{StatusUnsupported, "the other server has no " + name}
	}
	return c.Ask(PktExtended, append([][]byte{Str(name)}, parts...)...)
}
