package sftp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"net"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/cpu"
)

// The client's preference decides among the ciphers that are offered (RFC 4253,
// section 7.1), and common clients prefer ChaCha20-Poly1305, then AES-CTR, to
// AES-GCM, which on a processor with AES instructions costs a fraction of
// either. So a client that offers AES-GCM is offered nothing else there, one that has AES-CTR no
// ChaCha20; every other one gets all that is safe.
var (
	gcm = []string{ssh.CipherAES128GCM, ssh.CipherAES256GCM}
	ctr = []string{ssh.CipherAES128CTR, ssh.CipherAES192CTR, ssh.CipherAES256CTR}
)

// quickAES reports whether the processor has AES instructions.
func quickAES() bool { return cpu.X86.HasAES || cpu.ARM64.HasAES || cpu.S390X.HasAES }

// Ciphers is what a client is offered, best first, by what it offers itself.
func Ciphers(client []string) []string {
	if !quickAES() {
		return slices.Concat([]string{ssh.CipherChaCha20Poly1305}, gcm, ctr)
	}
	has := func(one string) bool { return slices.Contains(client, one) }
	switch {
	case slices.ContainsFunc(gcm, has):
		return gcm
	case slices.ContainsFunc(ctr, has):
		return ctr
	}
	return slices.Concat(gcm, ctr, []string{ssh.CipherChaCha20Poly1305})
}

// Key exchanges and message authentication codes that are offered, best first. None has
// SHA-1: the post-quantum hybrid comes first (draft-ietf-sshm-mlkem-hybrid-kex), and codes over
// the encrypted text before those over the plain one.
var (
	keyExchanges = []string{ssh.KeyExchangeMLKEM768X25519, ssh.KeyExchangeCurve25519, ssh.KeyExchangeECDHP256, ssh.KeyExchangeECDHP384, ssh.KeyExchangeECDHP521,
		ssh.KeyExchangeDH16SHA512, ssh.KeyExchangeDH14SHA256}
	macs = []string{ssh.HMACSHA256ETM, ssh.HMACSHA512ETM, ssh.HMACSHA256, ssh.HMACSHA512}
)

// modern keeps an RSA host key from signing with SHA-1 (RFC 8332); others are as they are.
func modern(key ssh.Signer) ssh.Signer {
	if key.PublicKey().Type() != ssh.KeyAlgoRSA {
		return key
	}
	if signer, can := key.(ssh.AlgorithmSigner); can {
		if limited, err := ssh.NewSignerWithAlgorithms(signer, []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}); err == nil {
			return limited
		}
	}
	return key
}

const (
	// firstWait is how long what the client sends first is waited for: its version, and what it
	// offers. Clients send both at once; one that waits for ours gets every cipher.
	firstWait = 250 * time.Millisecond
	// maxVersion bounds the version line (RFC 4253, section 4.2), maxOffer what the client offers (section 6.1).
	maxVersion = 255
	maxOffer   = 35000

	ourVersion = "SSH-2.0-UrbanKeep"
	msgKexInit = 20
)

// peeked is a connection whose first bytes were looked at, and to which our version line
// has been written.
type peeked struct {
	net.Conn
	first   []byte
	greeted bool
}

func (p *peeked) Read(b []byte) (int, error) {
	if len(p.first) > 0 {
		n := copy(b, p.first)
		p.first = p.first[n:]
		return n, nil
	}
	return p.Conn.Read(b)
}

// Write leaves out our version line, which comes first.
func (p *peeked) Write(b []byte) (int, error) {
	if !p.greeted && string(b) == ourVersion+"\r\n" {
		p.greeted = true
		return len(b), nil
	}
	return p.Conn.Write(b)
}

// peek greets a client and looks at its version line, "" when it doesn't come, and at the ciphers
// that it offers in both directions, none when that doesn't come.
func peek(raw net.Conn) (p *peeked, version string, ciphers []string, err error) {
	p = &peeked{Conn: raw}
	more := func(enough func() bool) bool {
		for !enough() {
			buf := make([]byte, 2048)
			n, err := raw.Read(buf)
			p.first = append(p.first, buf[:n]...)
			if err != nil && !enough() {
				return false
			}
		}
		return true
	}
	raw.SetReadDeadline(time.Now().Add(firstWait))
	came := more(func() bool { return bytes.Contains(p.first, []byte("\n")) || len(p.first) > maxVersion })
	raw.SetWriteDeadline(time.Now().Add(firstWait))
	if _, err := raw.Write([]byte(ourVersion + "\r\n")); err != nil {
		return p, "", nil, err
	}
	line, _, whole := bytes.Cut(p.first, []byte("\n"))
	if whole && !bytes.HasPrefix(line, []byte("SSH-")) { // only a server may say something else first (RFC 4253, section 4.2)
		return p, "", nil, errNotSSH
	}
	if !came || !whole {
		return p, "", nil, nil
	}
	version = string(bytes.TrimRight(line, "\r"))
	raw.SetReadDeadline(time.Now().Add(firstWait))
	size := func() int {
		if rest := p.first[len(line)+1:]; len(rest) >= 4 {
			return int(binary.BigEndian.Uint32(rest))
		}
		return -1
	}
	if more(func() bool { n := size(); return n > maxOffer || n >= 0 && len(p.first)-len(line)-1 >= n+4 }) && size() <= maxOffer {
		ciphers = offered(p.first[len(line)+1:][4:][:size()])
	}
	return p, version, ciphers, nil
}

var errNotSSH = errors.New("the client speaks something else than SSH")

// offered reads the ciphers of a client's first packet (RFC 4253, section 7.1): a byte that says how
// long the padding is, the kind, 16 bytes at random, and lists of names.
func offered(packet []byte) []string {
	if len(packet) < 18 || packet[1] != msgKexInit {
		return nil
	}
	d := decoder{b: packet[18:]}
	d.bytes() // key exchanges
	d.bytes() // host keys
	up, down := d.string(), d.string()
	if d.err != nil {
		return nil
	}
	both := strings.Split(up, ",")
	return slices.DeleteFunc(both, func(one string) bool { return !slices.Contains(strings.Split(down, ","), one) })
}
