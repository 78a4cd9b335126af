package api

import (
	"crypto/sha256"
	"encoding/hex"
	"time"
)

// Lock is one of a WebDAV client. Its token is its client's alone.
type Lock struct {
	ID      string    `json:"id"`
	Account string    `json:"account"`
	Store   string    `json:"store"`
	Path    string    `json:"path"` // in the store
	Deep    bool      `json:"deep"` // it holds for all that is in the folder
	Shared  bool      `json:"shared"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
}

// LockID names a lock to operators without giving its token away.
func LockID(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:6])
}
