package rehearse

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// ftpClient is as much of an FTP client (RFC 959, RFC 4217, RFC 2428) as trying
// things takes.
type ftpClient struct {
	raw  net.Conn
	text *textproto.Conn
	tls  *tls.Config // nil: in clear
}

func signInFTP(raw net.Conn, account string, l Listener) (client, error) {
	host, _, err := net.SplitHostPort(l.Dial)
	if err != nil {
		return nil, err
	}
	// It is the service itself that is called, on this machine; resumed sessions are
	// what some listeners ask of data connections.
	settings := &tls.Config{InsecureSkipVerify: true, ServerName: host, ClientSessionCache: tls.NewLRUClientSessionCache(4)}
	c := &ftpClient{raw: raw}
	if l.Protocol == keep.FTPS {
		c.secure(settings)
	} else {
		c.text = textproto.NewConn(raw)
	}
	if _, err := c.expect(220); err != nil {
		return nil, turnedAway(err)
	}
	if l.Protocol == keep.FTP && l.Encryption != keep.EncryptionOff {
		if _, err := c.say(234, "AUTH TLS"); err != nil {
			return nil, err
		}
		c.secure(settings)
	}
	if _, err := c.say(331, "USER %s", account); err != nil {
		return nil, err
	}
	if _, err := c.say(230, "PASS %s", l.Secret.Reveal()); err != nil {
		return nil, err
	}
	if c.tls != nil {
		if _, err := c.say(200, "PBSZ 0"); err != nil {
			return nil, err
		}
		if _, err := c.say(200, "PROT P"); err != nil {
			return nil, err
		}
	}
	_, err = c.say(200, "TYPE I")
	return c, err
}

// turnedAway takes a connection that is closed without a word for what it is: the
// network rules said no.
func turnedAway(err error) error {
	var op *net.OpError
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &op) && !op.Timeout() {
		return &refusal{"the connection was closed"}
	}
	return err
}

func (c *ftpClient) secure(settings *tls.Config) {
	c.tls = settings
	c.raw = tls.Client(c.raw, settings)
	c.text = textproto.NewConn(c.raw)
}

// say sends a command and reads its reply, which must have a code.
func (c *ftpClient) say(code int, format string, args ...any) (string, error) {
	c.raw.SetDeadline(time.Now().Add(patience))
	if err := c.text.PrintfLine(format, args...); err != nil {
		return "", err
	}
	return c.expect(code)
}

func (c *ftpClient) expect(code int) (string, error) {
	c.raw.SetDeadline(time.Now().Add(patience))
	_, line, err := c.text.ReadResponse(code)
	var reply *textproto.Error
	if errors.As(err, &reply) && reply.Code >= 400 {
		return "", &refusal{fmt.Sprintf("%d %s", reply.Code, reply.Msg)}
	}
	return line, err
}

// data carries out a command with a data connection.
func (c *ftpClient) data(use func(net.Conn) error, format string, args ...any) error {
	line, err := c.say(229, "EPSV")
	if err != nil {
		return err
	}
	var port int
	if _, err := fmt.Sscanf(line[strings.LastIndex(line, "(")+1:], "|||%d|", &port); err != nil {
		return fmt.Errorf("EPSV answered %q", line)
	}
	host, _, err := net.SplitHostPort(c.raw.RemoteAddr().String())
	if err != nil {
		return err
	}
	conn, err := net.DialTimeout("tcp", net.JoinHostPort(host, fmt.Sprint(port)), patience)
	if err != nil {
		return err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(patience))
	if _, err := c.say(1, format, args...); err != nil {
		return err
	}
	var secured net.Conn = conn
	if c.tls != nil {
		secured = tls.Client(conn, c.tls)
	}
	if err := use(secured); err != nil {
		return err
	}
	if err := secured.Close(); err != nil {
		return err
	}
	_, err = c.expect(226)
	return err
}

func (c *ftpClient) list(at string) error {
	return c.data(func(conn net.Conn) error {
		_, err := io.Copy(io.Discard, conn)
		return err
	}, "MLSD %s", at)
}

func (c *ftpClient) download(at, want string) error {
	var got strings.Builder
	err := c.data(func(conn net.Conn) error {
		_, err := io.Copy(&got, io.LimitReader(conn, 1<<20))
		return err
	}, "RETR %s", at)
	if err == nil && got.String() != want {
		return errors.New("other bytes came than are there")
	}
	return err
}

func (c *ftpClient) upload(at, content string) error {
	return c.data(func(conn net.Conn) error {
		_, err := io.WriteString(conn, content)
		return err
	}, "STOR %s", at)
}

func (c *ftpClient) rename(at, to string) error {
	if _, err := c.say(350, "RNFR %s", at); err != nil {
		return err
	}
	_, err := c.say(250, "RNTO %s", to)
	return err
}

func (c *ftpClient) remove(at string) error { _, err := c.say(250, "DELE %s", at); return err }
func (c *ftpClient) mkdir(at string) error  { _, err := c.say(257, "MKD %s", at); return err }
func (c *ftpClient) rmdir(at string) error  { _, err := c.say(250, "RMD %s", at); return err }

func (c *ftpClient) close() {
	c.say(221, "QUIT")
	c.raw.Close()
}
