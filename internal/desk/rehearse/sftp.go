package rehearse

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
)

// sftpClient is as much of an SFTP client (draft-ietf-secsh-filexfer-02, version
// 3) as trying things takes: one request at a time.
type sftpClient struct {
	raw net.Conn
	ssh *ssh.Client
	in  io.Reader
	out io.Writer
	id  uint32
}

// The packets it sends and reads, and the flags of open (section 3; 6.3).
const (
	pktInit, pktVersion                       = 1, 2
	pktOpen, pktClose, pktRead, pktWrite      = 3, 4, 5, 6
	pktOpenDir, pktReadDir, pktRemove         = 11, 12, 13
	pktMkdir, pktRmdir, pktRename             = 14, 15, 18
	pktStatus, pktHandle, pktData, pktName    = 101, 102, 103, 104
	flagRead, flagWrite, flagCreat, flagTrunc = 1, 2, 8, 16
	statusOK, statusEOF                       = 0, 1
)

func signInSFTP(raw net.Conn, account string, secret keep.Secret) (client, error) {
	raw.SetDeadline(time.Now().Add(patience))
	shell, channels, requests, err := ssh.NewClientConn(raw, raw.RemoteAddr().String(), &ssh.ClientConfig{User: account, ClientVersion: "SSH-2.0-UrbanKeepRehearsal",
		Auth: []ssh.AuthMethod{ssh.Password(secret.Reveal())}, HostKeyCallback: ssh.InsecureIgnoreHostKey()}) // it is the service itself that is called
	if err != nil {
		if strings.Contains(err.Error(), "unable to authenticate") {
			return nil, &refusal{"the sign-in was refused"}
		}
		if strings.Contains(err.Error(), "EOF") || strings.Contains(err.Error(), "reset") {
			return nil, &refusal{"the connection was closed"}
		}
		return nil, err
	}
	c := &sftpClient{raw: raw, ssh: ssh.NewClient(shell, channels, requests)}
	session, err := c.ssh.NewSession()
	if err != nil {
		return nil, err
	}
	if c.out, err = session.StdinPipe(); err != nil {
		return nil, err
	}
	if c.in, err = session.StdoutPipe(); err != nil {
		return nil, err
	}
	if err := session.RequestSubsystem("sftp"); err != nil {
		return nil, err
	}
	if err := c.send(pktInit, binary.BigEndian.AppendUint32(nil, 3)); err != nil {
		return nil, err
	}
	kind, _, err := c.receive()
	if err == nil && kind != pktVersion {
		err = fmt.Errorf("packet %d instead of a version", kind)
	}
	return c, err
}

func (c *sftpClient) send(kind byte, body []byte) error {
	c.raw.SetDeadline(time.Now().Add(patience))
	packet := append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+1)), kind)
	_, err := c.out.Write(append(packet, body...))
	return err
}

// maxPacket bounds an answer, bytes.
const maxPacket = 1 << 20

func (c *sftpClient) receive() (kind byte, body []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(c.in, head[:]); err != nil {
		return 0, nil, err
	}
	length := binary.BigEndian.Uint32(head[:])
	if length < 1 || length > maxPacket {
		return 0, nil, fmt.Errorf("an answer of %d bytes", length)
	}
	body = make([]byte, length-1)
	_, err = io.ReadFull(c.in, body)
	return head[4], body, err
}

func str(text string) []byte {
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(text))), text...)
}

func u32(n uint32) []byte { return binary.BigEndian.AppendUint32(nil, n) }
func u64(n uint64) []byte { return binary.BigEndian.AppendUint64(nil, n) }

// ask makes a request and gives its answer; a status other than "ok" and "end of
// file" is a refusal.
func (c *sftpClient) ask(kind byte, parts ...[]byte) (answer byte, body []byte, err error) {
	c.id++
	request := u32(c.id)
	for _, part := range parts {
		request = append(request, part...)
	}
	if err := c.send(kind, request); err != nil {
		return 0, nil, err
	}
	if answer, body, err = c.receive(); err != nil {
		return 0, nil, err
	}
	if len(body) < 4 || binary.BigEndian.Uint32(body) != c.id {
		return 0, nil, errors.New("an answer to another request")
	}
	body = body[4:]
	if answer == pktStatus && len(body) >= 4 {
		if code := binary.BigEndian.Uint32(body); code > statusEOF {
			return answer, body, &refusal{fmt.Sprintf("status %d", code)}
		}
	}
	return answer, body, nil
}

func (c *sftpClient) done(kind byte, parts ...[]byte) error {
	_, _, err := c.ask(kind, parts...)
	return err
}

// open gives the handle of a file or folder, ready to be sent again.
func (c *sftpClient) open(kind byte, parts ...[]byte) ([]byte, error) {
	answer, body, err := c.ask(kind, parts...)
	if err == nil && answer != pktHandle {
		err = fmt.Errorf("packet %d instead of a handle", answer)
	}
	return body, err
}

func (c *sftpClient) list(at string) error {
	handle, err := c.open(pktOpenDir, str(at))
	if err != nil {
		return err
	}
	for {
		answer, _, err := c.ask(pktReadDir, handle)
		if err != nil {
			return err
		}
		if answer != pktName {
			return c.done(pktClose, handle)
		}
	}
}

func (c *sftpClient) download(at, want string) error {
	handle, err := c.open(pktOpen, str(at), u32(flagRead), u32(0))
	if err != nil {
		return err
	}
	answer, body, err := c.ask(pktRead, handle, u64(0), u32(1<<15))
	if err != nil {
		return err
	}
	if answer != pktData || string(body) != string(str(want)) {
		return errors.New("other bytes came than are there")
	}
	return c.done(pktClose, handle)
}

func (c *sftpClient) upload(at, content string) error {
	handle, err := c.open(pktOpen, str(at), u32(flagWrite|flagCreat|flagTrunc), u32(0))
	if err != nil {
		return err
	}
	if err := c.done(pktWrite, handle, u64(0), str(content)); err != nil {
		return err
	}
	return c.done(pktClose, handle)
}

func (c *sftpClient) rename(at, to string) error { return c.done(pktRename, str(at), str(to)) }
func (c *sftpClient) remove(at string) error     { return c.done(pktRemove, str(at)) }
func (c *sftpClient) mkdir(at string) error      { return c.done(pktMkdir, str(at), u32(0)) }
func (c *sftpClient) rmdir(at string) error      { return c.done(pktRmdir, str(at)) }
func (c *sftpClient) close()                     { c.ssh.Close() }
