package signin

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
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

// ReadPublicKey reads one public key: in its one-line form, with line breaks that
// a paste put in mended; in the form of RFC 4716; or as PEM. A private key is
// refused.
func ReadPublicKey(text string) (keep.Key, error) {
	wrong := func(say string) (keep.Key, error) { return keep.Key{}, &keep.FieldError{Field: "key", Say: say} }
	if len(text) > maxKeyText {
		return wrong("it is far too long for a public key: give one key, as in the file that ends in .pub")
	}
	if privateMark.MatchString(text) {
		return wrong("this is a PRIVATE key; it was not stored. Whoever saw it can sign in with it: make a new pair and give the public half, the file that ends in .pub")
	}
	if strings.Contains(text, "-----BEGIN ") {
		return readPEM(text)
	}
	if strings.Contains(text, rfc4716Begin) {
		return readRFC4716(text)
	}
	fields := strings.Fields(text)
	var at []int
	for i, field := range fields {
		if isKeyType(field) && i+1 < len(fields) {
			at = append(at, i)
		}
	}
	switch len(at) {
	case 0:
		return wrong("this is not a public key: paste one line that begins with ssh-ed25519, ecdsa-sha2-… or ssh-rsa, as in the file that ends in .pub")
	case 1:
		return readMended(fields[at[0]], fields[at[0]+1:])
	}
	return wrong(fmt.Sprintf("there are %d keys in it: add them one at a time, so that each gets its own label", len(at)))
}

// readPEM reads "PUBLIC KEY" (RFC 5280, section 4.1.2.7) and "RSA PUBLIC KEY" (RFC 8017, appendix A.1.1).
func readPEM(text string) (keep.Key, error) {
	damaged := &keep.FieldError{Field: "key", Say: "the PEM block holds no public key that can be read: copy it again whole, from BEGIN to END"}
	block, _ := pem.Decode([]byte(text[strings.Index(text, "-----BEGIN "):]))
	if block == nil {
		return keep.Key{}, damaged
	}
	parsed, err := x509.ParsePKIXPublicKey(block.Bytes)
	if block.Type == "RSA PUBLIC KEY" {
		parsed, err = x509.ParsePKCS1PublicKey(block.Bytes)
	}
	if err != nil {
		return keep.Key{}, damaged
	}
	public, err := ssh.NewPublicKey(parsed)
	if err != nil {
		return keep.Key{}, &keep.FieldError{Field: "key", Say: "SSH can't use a key of that kind: make an Ed25519 key"}
	}
	return describeKey(public)
}

// The markers of RFC 4716, section 3.
const (
	rfc4716Begin = "---- BEGIN SSH2 PUBLIC KEY ----"
	rfc4716End   = "---- END SSH2 PUBLIC KEY ----"
)

// readRFC4716 reads a key with its headers, of which the comment becomes the label.
func readRFC4716(text string) (keep.Key, error) {
	damaged := &keep.FieldError{Field: "key", Say: "the key is damaged or cut short: copy it again whole, from BEGIN to END"}
	_, rest, _ := strings.Cut(text, rfc4716Begin)
	inner, _, whole := strings.Cut(rest, rfc4716End)
	if !whole {
		return keep.Key{}, damaged
	}
	inner = strings.NewReplacer("\\\r\n", "", "\\\n", "").Replace(inner) // a header goes on behind a backslash
	var body strings.Builder
	label := ""
	for line := range strings.Lines(inner) {
		if tag, value, isHeader := strings.Cut(line, ":"); isHeader {
			if strings.EqualFold(strings.TrimSpace(tag), "Comment") {
				label = strings.Trim(strings.TrimSpace(value), `"`)
			}
			continue
		}
		body.WriteString(strings.Join(strings.Fields(line), ""))
	}
	blob, err := base64.StdEncoding.DecodeString(body.String())
	if err != nil {
		return keep.Key{}, damaged
	}
	public, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return keep.Key{}, damaged
	}
	k, err := describeKey(public)
	k.Label = label
	return k, err
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
