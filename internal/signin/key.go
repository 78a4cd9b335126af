package signin

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/rsa"
	"fmt"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
)

// MinRSA is the fewest bits of an RSA key that still protects anything.
const MinRSA = 2048

// maxKeyText bounds what is looked at as a key, bytes.
const maxKeyText = 64 << 10

var privateMark = regexp.MustCompile(`(?i)-----BEGIN [A-Z0-9 ]*PRIVATE KEY|PuTTY-User-Key-File|SSH2 ENCRYPTED PRIVATE KEY`)

// ReadPublicKey reads one public key in its one-line form, with line breaks that
// a paste put in mended. A private key is refused.
func ReadPublicKey(text string) (keep.Key, error) {
	wrong := func(say string) (keep.Key, error) { return keep.Key{}, &keep.FieldError{Field: "key", Say: say} }
	if len(text) > maxKeyText {
		return wrong("it is far too long for a public key: give one key, as in the file that ends in .pub")
	}
	if privateMark.MatchString(text) {
		return wrong("this is a PRIVATE key; it was not stored. Whoever saw it can sign in with it: make a new pair and give the public half, the file that ends in .pub")
	}
	fields := strings.Fields(text)
	for i, field := range fields {
		if isKeyType(field) && i+1 < len(fields) {
			return readMended(fields[i], fields[i+1:])
		}
	}
	return wrong("this is not a public key: paste one line that begins with ssh-ed25519, ecdsa-sha2-… or ssh-rsa, as in the file that ends in .pub")
}

func isKeyType(word string) bool {
	return strings.HasPrefix(word, "ssh-") || strings.HasPrefix(word, "ecdsa-sha2-") || strings.HasPrefix(word, "sk-")
}

// readMended joins as many words after the type as make a whole key; what is
// left is its comment.
func readMended(kind string, words []string) (keep.Key, error) {
	for n := 1; n <= len(words); n++ {
		line := kind + " " + strings.Join(words[:n], "")
		public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil {
			continue
		}
		k, err := describeKey(public)
		k.Label = strings.Join(words[n:], " ")
		return k, err
	}
	return keep.Key{}, &keep.FieldError{Field: "key", Say: "the key is damaged or cut short: copy the whole line again"}
}

// describeKey gives a key's facts, or says why it may not be used.
func describeKey(public ssh.PublicKey) (keep.Key, error) {
	k := keep.Key{Type: public.Type(), Fingerprint: ssh.FingerprintSHA256(public), Blob: bytes.Clone(public.Marshal()), Bits: 256}
	weak := func(say string) (keep.Key, error) { return keep.Key{}, &keep.FieldError{Field: "key", Say: say} }
	if strings.Contains(k.Type, "-cert-") {
		return weak("this is a certificate, not a key: give the public key itself")
	}
	if k.Type == ssh.InsecureKeyAlgoDSA {
		return weak("DSA keys are no longer safe: make an Ed25519 key")
	}
	if holder, ok := public.(ssh.CryptoPublicKey); ok {
		switch key := holder.CryptoPublicKey().(type) {
		case *rsa.PublicKey:
			k.Bits = key.N.BitLen()
			if k.Bits < MinRSA {
				return weak(fmt.Sprintf("an RSA key of %d bits is too weak: make an Ed25519 key, or RSA with at least %d bits", k.Bits, MinRSA))
			}
		case *ecdsa.PublicKey:
			k.Bits = key.Curve.Params().BitSize
		}
	}
	return k, nil
}
