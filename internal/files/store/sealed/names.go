package sealed

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"fmt"
	"strings"
)

// names encrypts single names, each always to the same text: a hash of it under a key is the start of the key stream that
// it is encrypted with (the construction of RFC 5297, with HMAC-SHA-256). Nil keeps them in clear.
type names struct {
	hash  []byte
	block cipher.Block
}

func newNames(k *Key) *names {
	block, err := aes.NewCipher(k.secret("names: stream"))
	if err != nil {
		panic(err) // never, for a key of 32 bytes
	}
	return &names{k.secret("names: hash"), block}
}

// spelling has one case only, for disks that don't tell cases apart.
var spelling = base32.HexEncoding.WithPadding(base32.NoPadding)

func (n *names) start(name []byte) []byte {
	mac := hmac.New(sha256.New, n.hash)
	mac.Write(name)
	return mac.Sum(nil)[:aes.BlockSize]
}

// on gives a name as it lies on the disk.
func (n *names) on(name string) string {
	if n == nil || name == "." {
		return name
	}
	start := n.start([]byte(name))
	out := append(start, name...)
	cipher.NewCTR(n.block, start).XORKeyStream(out[aes.BlockSize:], []byte(name))
	return strings.ToLower(spelling.EncodeToString(out))
}

// off gives a name of the disk as it was said.
func (n *names) off(lies string) (string, error) {
	if n == nil {
		return lies, nil
	}
	raw, err := spelling.DecodeString(strings.ToUpper(lies))
	if err != nil || len(raw) <= aes.BlockSize {
		return "", fmt.Errorf("%q is no encrypted name", lies)
	}
	start, name := raw[:aes.BlockSize], raw[aes.BlockSize:]
	cipher.NewCTR(n.block, start).XORKeyStream(name, name)
	if !hmac.Equal(start, n.start(name)) {
		return "", fmt.Errorf("%q is no name that this key has encrypted", lies)
	}
	return string(name), nil
}

// onPath is on for the text of a link.
func (n *names) onPath(text string) string {
	if n == nil {
		return text
	}
	parts := strings.Split(text, "/")
	for i, part := range parts {
		if part != "" && part != "." && part != ".." {
			parts[i] = n.on(part)
		}
	}
	return strings.Join(parts, "/")
}

func (n *names) offPath(text string) (string, error) {
	if n == nil {
		return text, nil
	}
	parts := strings.Split(text, "/")
	for i, part := range parts {
		if part == "" || part == "." || part == ".." {
			continue
		}
		plain, err := n.off(part)
		if err != nil {
			return "", err
		}
		parts[i] = plain
	}
	return strings.Join(parts, "/"), nil
}
