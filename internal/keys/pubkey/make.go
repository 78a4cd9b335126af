package pubkey

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"fmt"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
)

// Kind is a kind of key pair that can be made.
type Kind string

// The kinds, best first.
const (
	Ed25519 Kind = "ed25519"
	ECDSA   Kind = "ecdsa" // P-256
	RSA     Kind = "rsa"   // 3072 bits
)

// Make makes a key pair: the public half, and the private half in the PEM form
// of the common suite, encrypted when there is a passphrase.
func Make(kind Kind, comment string, passphrase keep.Secret) (keep.Key, keep.Secret, error) {
	var private crypto.PrivateKey
	var err error
	switch kind {
	case Ed25519:
		_, private, err = ed25519.GenerateKey(rand.Reader)
	case ECDSA:
		private, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case RSA:
		private, err = rsa.GenerateKey(rand.Reader, 3072)
	default:
		return keep.Key{}, "", &keep.FieldError{Field: "type", Say: fmt.Sprintf("%q is not a kind of key: use ed25519, ecdsa or rsa", kind)}
	}
	if err != nil {
		return keep.Key{}, "", err
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return keep.Key{}, "", err
	}
	key, fault := describe(signer.PublicKey())
	if fault != nil {
		return keep.Key{}, "", fault
	}
	key.Label = comment
	text, err := Private(private, comment, passphrase)
	return key, text, err
}

// Private writes a private key in the PEM form of the common suite, encrypted
// when there is a passphrase.
func Private(key crypto.PrivateKey, comment string, passphrase keep.Secret) (keep.Secret, error) {
	var block *pem.Block
	var err error
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(key, comment)
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, comment, []byte(passphrase.Reveal()))
	}
	if err != nil {
		return "", err
	}
	return keep.Secret(pem.EncodeToMemory(block)), nil
}
