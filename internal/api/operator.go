package api

import (
	"encoding/json"
	"time"

	"urbankeep/internal/keep"
)

// Operator is who administers.
type Operator struct {
	Operator   string     `json:"operator"`
	Role       keep.Role  `json:"role"`
	Codes      bool       `json:"codes"`  // one-time codes are asked for
	Source     string     `json:"source"` // who vouches for it
	Created    time.Time  `json:"created"`
	LastSignIn *time.Time `json:"lastSignIn,omitempty"` // to the console
}

// OperatorNew asks for an operator.
type OperatorNew struct {
	Operator string    `json:"operator"`
	Role     keep.Role `json:"role"`
	Password string    `json:"password"`
}

// OperatorChange changes an operator; nil fields stay.
type OperatorChange struct {
	Role     *keep.Role `json:"role,omitempty"`
	Password *string    `json:"password,omitempty"`
	Codes    *bool      `json:"codes,omitempty"`    // only to switch them off
	Passkeys *bool      `json:"passkeys,omitempty"` // only to remove them
	Source   *string    `json:"source,omitempty"`   // who vouches for it; own, with a password: the own records
}

// PasswordChange gives who is signed in a new password.
type PasswordChange struct {
	Now  string `json:"now"`
	Next string `json:"next"`
}

// Codes are what an authenticator needs for one-time codes (RFC 6238).
type Codes struct {
	Secret  string `json:"secret"`  // base32
	URI     string `json:"uri"`     // otpauth://
	Picture []byte `json:"picture"` // of the URI, PNG
}

// CodesUse asks for one-time codes from now on; the code shows that they can be made.
type CodesUse struct {
	Secret string `json:"secret"`
	Code   string `json:"code"`
}

// CodesDrop asks for none from now on; the code is a last one, or a recovery code.
type CodesDrop struct {
	Code string `json:"code"`
}

// Passkey is one that an operator has registered.
type Passkey struct {
	ID       string     `json:"id"`
	Label    string     `json:"label"`
	Host     string     `json:"host"` // the name of the console under which it works
	Created  time.Time  `json:"created"`
	LastUsed *time.Time `json:"lastUsed,omitempty"`
}

// Proving shows the password once more.
type Proving struct {
	Now string `json:"now"`
}

// PasskeyAsk is a question to a browser (WebAuthn): the options of navigator.credentials.
type PasskeyAsk struct {
	ID      string `json:"id"`
	Options any    `json:"options"`
}

// PasskeyAnswer is the browser's answer.
type PasskeyAnswer struct {
	ID       string          `json:"id"`
	Label    string          `json:"label,omitempty"` // of a new one
	Code     string          `json:"code,omitempty"`  // the second factor, on the portal where one is asked for
	Response json.RawMessage `json:"response"`
}

// Recovery are the recovery codes, shown this once.
type Recovery struct {
	Recovery []string `json:"recovery"`
}

// Access is one way in that an operator has open.
type Access struct {
	ID       string     `json:"id"`
	Kind     string     `json:"kind"` // "console" or "token"
	Operator string     `json:"operator"`
	Label    string     `json:"label"`
	Role     keep.Role  `json:"role"`
	Address  string     `json:"address"` // from where it was made
	Created  time.Time  `json:"created"`
	Expires  time.Time  `json:"expires"`
	LastUsed *time.Time `json:"lastUsed,omitempty"` // to the minute
	This     bool       `json:"this"`               // the request itself came by it
}

// TokenNew asks for an API token.
type TokenNew struct {
	Label string    `json:"label"`
	Role  keep.Role `json:"role,omitempty"` // "": its operator's
	Days  int       `json:"days"`           // how long it works
}

// Token is an API token, shown this once.
type Token struct {
	Token   string    `json:"token"`
	Role    keep.Role `json:"role"`
	Expires time.Time `json:"expires"`
}

// SignIn asks to sign an operator in.
type SignIn struct {
	Operator string `json:"operator"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty"` // where one-time codes are on
}
