package sftp

import (
	"bytes"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/cpu"
)

// The client's preference decides among the ciphers that are offered (RFC 4253,
// section 7.1), and common clients prefer ChaCha20-Poly1305, then AES-CTR, to
// AES-GCM, which on a processor with AES instructions costs a fraction of
// either. So a client that is known to have AES-GCM is offered nothing else
// there; every other one gets all that is safe.
var (
	gcm = []string{ssh.CipherAES128GCM, ssh.CipherAES256GCM}
	ctr = []string{ssh.CipherAES128CTR, ssh.CipherAES192CTR, ssh.CipherAES256CTR}
)

// quickAES reports whether the processor has AES instructions.
func quickAES() bool { return cpu.X86.HasAES || cpu.ARM64.HasAES || cpu.S390X.HasAES }

// Ciphers is what a client is offered, best first, by the version it announced.
func Ciphers(clientVersion string) []string {
	switch {
	case !quickAES():
		return append([]string{ssh.CipherChaCha20Poly1305}, append(append([]string(nil), gcm...), ctr...)...)
	case strings.HasPrefix(clientVersion, "SSH-2.0-OpenSSH_"):
		return gcm
	}
	return append(append([]string(nil), gcm...), ctr...)
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
	// versionWait is how long the client's version is waited for before ours is
	// sent. Clients send theirs at once; one that waits gets every cipher.
	versionWait = 250 * time.Millisecond
	// maxVersion bounds the version line (RFC 4253, section 4.2).
	maxVersion = 255
)

// peeked is a connection whose first bytes were looked at.
type peeked struct {
	net.Conn
	first []byte
}

func (p *peeked) Read(b []byte) (int, error) {
	if len(p.first) > 0 {
		n := copy(b, p.first)
		p.first = p.first[n:]
		return n, nil
	}
	return p.Conn.Read(b)
}

// peekVersion looks at the client's version line, "" when it doesn't come.
func peekVersion(raw net.Conn) (*peeked, string) {
	p := &peeked{Conn: raw}
	raw.SetReadDeadline(time.Now().Add(versionWait))
	buf := make([]byte, maxVersion)
	n := 0
	for n < len(buf) && !bytes.Contains(buf[:n], []byte("\n")) {
		more, err := raw.Read(buf[n:])
		n += more
		if err != nil {
			break
		}
	}
	p.first = buf[:n]
	line, _, whole := bytes.Cut(p.first, []byte("\n"))
	if !whole {
		return p, ""
	}
	return p, string(bytes.TrimRight(line, "\r"))
}
