package sftp

import (
	"crypto/rand"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// The requests by which clients learn the host keys that are not in use yet, so
// that one can be replaced without a warning; see the PROTOCOL file of the suite
// that introduced them, section 2.5.
const (
	announceKeys = "hostkeys-00@openssh.com"
	proveKeys    = "hostkeys-prove-00@openssh.com"
)

// askAlive asks a client for a sign of life: whoever knows the request or not
// answers it (RFC 4254, section 4).
const askAlive = "keepalive@openssh.com"

// serveConnection announces the host keys and answers the requests that belong to
// no channel, until the connection ends.
func (c *conn) serveConnection(shell *ssh.ServerConn, requests <-chan *ssh.Request) {
	defer wire.Rescue(c.server.Log, c.raw.RemoteAddr())
	var known []byte
	for _, key := range c.server.HostKeys.Known() {
		known = append(known, ssh.Marshal(struct{ Key []byte }{key.PublicKey().Marshal()})...)
	}
	shell.SendRequest(announceKeys, false, known)
	alive := time.NewTicker(c.server.Timeouts.Alive)
	defer alive.Stop()
	for {
		select {
		case request, open := <-requests:
			if !open {
				return
			}
			c.serveRequest(shell, request)
		case <-alive.C:
			late := time.AfterFunc(c.server.Timeouts.Alive, func() { c.cut(keep.Refuse(keep.ClientGone, "the client no longer answers")) })
			shell.SendRequest(askAlive, true, nil)
			late.Stop()
		}
	}
}

func (c *conn) serveRequest(shell *ssh.ServerConn, request *ssh.Request) {
	c.answering.Lock()
	defer c.answering.Unlock()
	var proof []byte
	ok := false
	if request.Type == proveKeys {
		proof, ok = c.prove(shell, request.Payload)
	}
	if request.WantReply {
		request.Reply(ok, proof)
	}
}

// prove signs the keys that a client asks for, so that it knows that we have
// their private halves.
func (c *conn) prove(shell *ssh.ServerConn, payload []byte) (proof []byte, ok bool) {
	keys := c.server.HostKeys.Known()
	for len(payload) > 0 {
		var asked struct {
			Key  []byte
			Rest []byte `ssh:"rest"`
		}
		if ssh.Unmarshal(payload, &asked) != nil {
			return nil, false
		}
		payload = asked.Rest
		at := slices.IndexFunc(keys, func(k ssh.Signer) bool { return string(k.PublicKey().Marshal()) == string(asked.Key) })
		if at < 0 {
			return nil, false
		}
		signature, err := c.signProof(shell, keys[at], ssh.Marshal(struct {
			Name    string
			Session []byte
			Key     []byte
		}{proveKeys, shell.SessionID(), asked.Key}))
		if err != nil {
			return nil, false
		}
		keys = slices.Delete(keys, at, at+1) // each once: a request costs no more signatures than there are keys
		proof = append(proof, ssh.Marshal(struct{ Signature []byte }{ssh.Marshal(signature)})...)
	}
	return proof, true
}

// signProof signs with the algorithm that the key exchange settled on where the
// key is RSA, as clients expect.
func (c *conn) signProof(shell *ssh.ServerConn, key ssh.Signer, data []byte) (*ssh.Signature, error) {
	signer, isRSA := key.(ssh.AlgorithmSigner)
	if !isRSA || key.PublicKey().Type() != ssh.KeyAlgoRSA {
		return key.Sign(rand.Reader, data)
	}
	algorithm := ssh.KeyAlgoRSASHA512
	if met, ok := shell.Conn.(ssh.AlgorithmsConnMetadata); ok && met.Algorithms().HostKey == ssh.KeyAlgoRSASHA256 {
		algorithm = ssh.KeyAlgoRSASHA256
	}
	return signer.SignWithAlgorithm(rand.Reader, data, algorithm)
}
