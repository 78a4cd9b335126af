package pubkey

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
)

// MaxText bounds what is looked at as keys, bytes; maxKeys the keys in it.
const (
	MaxText = 256 << 10
	maxKeys = 200
)

// Reading is one key that was found in a text, or why it can't be used.
type Reading struct {
	Line int // where it begins, from 1
	Key  keep.Key
	Err  *keep.FieldError // nil: it can be used
}

var privateMark = regexp.MustCompile(`(?i)-----BEGIN [A-Z0-9 ]*PRIVATE KEY|PuTTY-User-Key-File|SSH2 ENCRYPTED PRIVATE KEY`)

// IsPrivate reports whether a text holds a private key in any common form.
func IsPrivate(text string) bool { return privateMark.MatchString(text) }

func wrong(say string) *keep.FieldError { return &keep.FieldError{Field: "key", Say: say} }

// Refusals of a whole text.
var (
	ErrPrivate = wrong("this is a PRIVATE key; it was not stored. Whoever saw it can sign in with it: make a new pair and give the public half, the file that ends in .pub")
	errTooLong = wrong(fmt.Sprintf("it is far too long for public keys: at most %d KiB and %d keys", MaxText>>10, maxKeys))
	errNone    = wrong("this is not a public key: paste one line that begins with ssh-ed25519, ecdsa-sha2-… or ssh-rsa, as in the file that ends in .pub")
)

// Read finds the public keys in a text: one-line keys with or without options
// (see options.go), with line breaks that a paste put in mended; the form of RFC
// 4716; PEM. Each is described or refused by itself. The error is a
// [*keep.FieldError] when the text is no place to look for keys, above all when
// it holds a private one.
func Read(text string) ([]Reading, error) {
	text = strings.TrimPrefix(text, "\ufeff") // some editors put it before everything
	if len(text) > MaxText {
		return nil, errTooLong
	}
	if IsPrivate(text) {
		return nil, ErrPrivate
	}
	var found []Reading
	switch {
	case strings.Contains(text, "-----BEGIN "):
		found = readBlocks(text, "-----BEGIN ", readPEM)
	case strings.Contains(text, rfc4716Begin):
		found = readBlocks(text, rfc4716Begin, readRFC4716)
	default:
		found = readLines(text)
	}
	switch {
	case len(found) == 0:
		return nil, errNone
	case len(found) > maxKeys:
		return nil, errTooLong
	}
	return found, nil
}

// readBlocks reads what begins at each marker.
func readBlocks(text, begin string, read func(block string) (keep.Key, *keep.FieldError)) []Reading {
	var found []Reading
	for at := strings.Index(text, begin); at >= 0; {
		end := len(text)
		if next := strings.Index(text[at+1:], begin); next >= 0 {
			end = at + 1 + next
		}
		key, err := read(text[at:end])
		found = append(found, Reading{Line: 1 + strings.Count(text[:at], "\n"), Key: key, Err: err})
		if end == len(text) {
			break
		}
		at = end
	}
	return found
}

// readPEM reads "PUBLIC KEY" (RFC 5280, section 4.1.2.7), "RSA PUBLIC KEY" (RFC 8017,
// appendix A.1.1) and the key of a client's "CERTIFICATE" (RFC 7468, section 5).
func readPEM(text string) (keep.Key, *keep.FieldError) {
	damaged := wrong("the PEM block holds no public key that can be read: copy it again whole, from BEGIN to END")
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return keep.Key{}, damaged
	}
	parsed, err := x509.ParsePKIXPublicKey(block.Bytes)
	if block.Type == "RSA PUBLIC KEY" {
		parsed, err = x509.ParsePKCS1PublicKey(block.Bytes)
	}
	label := ""
	if block.Type == "CERTIFICATE" {
		certificate, cerr := x509.ParseCertificate(block.Bytes)
		if err = cerr; err == nil {
			parsed, label = certificate.PublicKey, certificate.Subject.CommonName
		}
	}
	if err != nil {
		return keep.Key{}, damaged
	}
	public, err := ssh.NewPublicKey(parsed)
	if err != nil {
		return keep.Key{}, wrong("SSH can't use a key of that kind: make an Ed25519 key")
	}
	key, fault := describe(public)
	if fault == nil {
		key.Label = label
	}
	return key, fault
}

// The markers of RFC 4716, section 3.
const (
	rfc4716Begin = "---- BEGIN SSH2 PUBLIC KEY ----"
	rfc4716End   = "---- END SSH2 PUBLIC KEY ----"
)

// readRFC4716 reads a key with its headers, of which the comment becomes the label.
func readRFC4716(text string) (keep.Key, *keep.FieldError) {
	inner, _, whole := strings.Cut(strings.TrimPrefix(text, rfc4716Begin), rfc4716End)
	if !whole {
		return keep.Key{}, wrong("the key is damaged or cut short: copy it again whole, from BEGIN to END")
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
	key, err := decode(body.String())
	if err == nil {
		key.Label = label
	}
	return key, err
}

// readLines reads one-line keys. A line that begins no key goes on with the one
// before it: that mends what a paste broke.
func readLines(text string) []Reading {
	var found []Reading
	var entry []string // the lines of the key being gathered
	begun, hasType := 0, false
	flush := func() {
		if hasType {
			key, err := readEntry(strings.Join(entry, "\n"))
			found = append(found, Reading{Line: begun, Key: key, Err: err})
		}
		entry, hasType = nil, false
	}
	n := 0
	for line := range strings.Lines(text) {
		n++
		trimmed := strings.TrimSpace(line)
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		if typeAt(words(trimmed)) >= 0 {
			if hasType {
				flush()
			}
			hasType = true
		}
		if len(entry) == 0 {
			begun = n
		}
		entry = append(entry, trimmed)
	}
	flush()
	return found
}

// words splits at white space that is not between quotes.
func words(text string) []string {
	quoted := false
	return strings.FieldsFunc(text, func(r rune) bool {
		if r == '"' {
			quoted = !quoted
		}
		return !quoted && (r == ' ' || r == '\t' || r == '\r' || r == '\n')
	})
}

func typeAt(words []string) int {
	for i, word := range words {
		if strings.HasPrefix(word, "ssh-") || strings.HasPrefix(word, "ecdsa-sha2-") || strings.HasPrefix(word, "sk-") {
			return i
		}
	}
	return -1
}

// maxPieces bounds the pieces that a paste may have broken one key into.
const maxPieces = 100

// readEntry reads options, type, base64 and comment. As many words after the
// type as make a whole key are its base64; what is left is its comment.
func readEntry(text string) (keep.Key, *keep.FieldError) {
	all := words(text)
	at := typeAt(all)
	rest := all[at+1:]
	for n := 1; n <= min(len(rest), maxPieces); n++ {
		if _, err := base64.StdEncoding.DecodeString(strings.Join(rest[:n], "")); err != nil {
			continue
		}
		key, err := decode(strings.Join(rest[:n], ""))
		if err != nil && err != errDamaged {
			return key, err
		}
		if err != nil || !strings.HasPrefix(key.Type, strings.TrimSuffix(all[at], "@openssh.com")) {
			continue
		}
		key.Label = strings.Join(rest[n:], " ")
		return key, options(&key, strings.Join(all[:at], " "))
	}
	return keep.Key{}, errDamaged
}

var errDamaged = wrong("the key is damaged or cut short: copy the whole line again")

// decode reads a key in its wire form (RFC 4253, section 6.6) as base64.
func decode(text string) (keep.Key, *keep.FieldError) {
	blob, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return keep.Key{}, errDamaged
	}
	public, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return keep.Key{}, errDamaged
	}
	return describe(public)
}
