package pubkey

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/rsa"
	"fmt"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
)

// MinRSA is the fewest bits of an RSA key that still protects anything.
const MinRSA = 2048

// describe gives a key's facts, or says why it may not be used.
func describe(public ssh.PublicKey) (keep.Key, *keep.FieldError) {
	if _, isCertificate := public.(*ssh.Certificate); isCertificate {
		return keep.Key{}, wrong("this is a certificate, not a key: give the public key of the authority that signed it, as an authority")
	}
	if public.Type() == ssh.InsecureKeyAlgoDSA {
		return keep.Key{}, wrong("DSA keys are no longer safe: make an Ed25519 key")
	}
	bits := Bits(public)
	if public.Type() == ssh.KeyAlgoRSA && bits < MinRSA {
		return keep.Key{}, wrong(fmt.Sprintf("an RSA key of %d bits is too weak: make an Ed25519 key, or RSA with at least %d bits", bits, MinRSA))
	}
	return keep.Key{Type: public.Type(), Fingerprint: ssh.FingerprintSHA256(public), Blob: bytes.Clone(public.Marshal()), Bits: bits}, nil
}

// Bits is the size of a key.
func Bits(public ssh.PublicKey) int {
	if holder, ok := public.(ssh.CryptoPublicKey); ok {
		switch key := holder.CryptoPublicKey().(type) {
		case *rsa.PublicKey:
			return key.N.BitLen()
		case *ecdsa.PublicKey:
			return key.Curve.Params().BitSize
		}
	}
	return 256
}
