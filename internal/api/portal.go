package api

import (
	"time"

	"urbankeep/internal/keep"
)

// PortalDoor is what the portal says of itself before anybody signs in.
type PortalDoor struct {
	Name   string `json:"name"`   // of the organisation; "": none is set
	Banner string `json:"banner"` // what is to be read before signing in; "": nothing
	SSO    []SSO  `json:"sso"`    // by which holders may sign in
	Known  bool   `json:"known"`  // the browser shows that somebody has signed in; whether that still counts is not said
}

// SSO is a single sign-on.
type SSO struct {
	Source string `json:"source"`
	Label  string `json:"label"` // what people know it as
}

// SSOLeave asks to sign in by single sign-on: the browser itself, or an SFTP client that waits under a link.
type SSOLeave struct {
	Source string `json:"source"`
	Link   string `json:"link,omitempty"`
}

// SSOGo is where the browser is to go for that.
type SSOGo struct {
	URL string `json:"url"`
}

// PortalLink is an SFTP client that waits for its holder to sign in with a browser.
type PortalLink struct {
	Account string    `json:"account"`
	Address string    `json:"address"` // of the client
	Asked   time.Time `json:"asked"`
	SSO     []SSO     `json:"sso"` // by which they may
}

// PortalSignIn asks to sign an account holder in.
type PortalSignIn struct {
	Account  string `json:"account"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty"`   // of the second factor
	Secret   string `json:"secret,omitempty"` // of one-time codes that are set up with this, of which code is the first
}

// PortalNew asks for the secret of one-time codes, for an account that must have them.
type PortalNew struct {
	Account  string `json:"account"`
	Password string `json:"password"`
}

// PortalPassword gives an account another password that must change it.
type PortalPassword struct {
	Account string `json:"account"`
	Now     string `json:"now"`
	Next    string `json:"next"`
	Code    string `json:"code,omitempty"` // the second factor, where there is one
}

// PortalHolder is who is signed in.
type PortalHolder struct {
	Account  string   `json:"account"`
	Name     string   `json:"name"`               // of the organisation
	Recovery []string `json:"recovery,omitempty"` // codes for who loses the authenticator, shown this once
	// Passes are those that the holder may make, PassDays how long they may live.
	Passes   keep.PassKinds `json:"passes"`
	PassDays float64        `json:"passDays"`
}

// PortalFolder is a folder of the tree.
type PortalFolder struct {
	Path string   `json:"path"`
	May  []string `json:"may"`  // rights in it, by their names
	Free int64    `json:"free"` // bytes that fit still, by disk and quota; 0: unknown
	Room int64    `json:"room"` // of how many in all
	Cut  bool     `json:"cut"`  // there are more entries than are shown
	// BinSeconds is how long what is deleted can be put back; 0: it can't.
	BinSeconds int64         `json:"binSeconds"`
	Entries    []PortalEntry `json:"entries"`
}

// PortalEntry is a file, a folder or a link in a folder.
type PortalEntry struct {
	Name     string    `json:"name"`
	Kind     string    `json:"kind"` // "file", "folder" or "link"
	Size     int64     `json:"size"` // bytes
	Modified time.Time `json:"modified,omitzero"`
	Picture  bool      `json:"picture,omitempty"` // there is a small picture of it
}

// PortalFound is what a search has found.
type PortalFound struct {
	In string `json:"in"` // the folder
	PortalEntry
}

// PortalSearched is the end of a search.
type PortalSearched struct {
	Folders int  `json:"folders"` // that were looked through
	Cut     bool `json:"cut"`     // there may be more
}

// PortalWhy says why something is allowed or not.
type PortalWhy struct {
	May bool   `json:"may"`
	Say string `json:"say"`
}

// PortalRemoval names what is to be removed.
type PortalRemoval struct {
	Path   string `json:"path"`
	Inside bool   `json:"inside,omitempty"` // with all that is in it
	// ForGood passes the bin by, where the account has one.
	ForGood bool `json:"forGood,omitempty"`
}

// PortalBinning says that what was deleted can be put back, by its number.
type PortalBinning struct {
	ID string `json:"id"`
}

// PortalBin is what was deleted and can be put back, the newest first.
type PortalBin struct {
	Items []PortalBinned `json:"items"`
}

// PortalBinned is a file or folder in the bin.
type PortalBinned struct {
	ID      string    `json:"id"`
	Path    string    `json:"path"` // where it was
	Folder  bool      `json:"folder"`
	Size    int64     `json:"size"` // of a file, bytes
	Deleted time.Time `json:"deleted"`
	Until   time.Time `json:"until"` // it is removed then
}

// PortalPutBack asks for something in the bin.
type PortalPutBack struct {
	Name string `json:"name,omitempty"` // another one than it had, in the same folder
}

// PortalPath names a file or a folder.
type PortalPath struct {
	Path string `json:"path"`
}

// PortalRename asks for another name, or another place.
type PortalRename struct {
	Path string `json:"path"`
	To   string `json:"to"`
}

// PortalUpload is an upload that is not whole yet.
type PortalUpload struct {
	ID      string    `json:"id"`
	Path    string    `json:"path"`
	Size    int64     `json:"size"`   // of the whole, bytes
	Offset  int64     `json:"offset"` // how much has come, bytes
	Created time.Time `json:"created"`
	Ends    time.Time `json:"ends"` // when it is dropped if nothing more comes
}

// PortalFinish gives an upload its name that has come whole.
type PortalFinish struct {
	Hash    string `json:"hash"`    // SHA-256, hexadecimal; "": as announced
	Path    string `json:"path"`    // another place; "": as announced
	Replace bool   `json:"replace"` // it may take the place of a file
}

// PortalAccount is what holders see of their own account.
type PortalAccount struct {
	Account       string          `json:"account"`
	Password      bool            `json:"password"`      // it has one here
	Proof         string          `json:"proof"`         // what is shown once more before a change: password, sign-in, none
	TakesKeys     bool            `json:"takesKeys"`     // other programs may sign in with a key
	Codes         bool            `json:"codes"`         // the portal asks for one-time codes
	CodesRequired bool            `json:"codesRequired"` // it may not go without
	RecoveryLeft  int             `json:"recoveryLeft"`
	Keys          []Key           `json:"keys"`
	Sessions      []PortalSession `json:"sessions"`
	Tokens        []PortalToken   `json:"tokens"`
	Passkeys      []Passkey       `json:"passkeys"`
}

// PortalToken stands for the account in scripts.
type PortalToken struct {
	ID       string     `json:"id"`
	Label    string     `json:"label"`
	Path     string     `json:"path"`   // it reaches this folder and what is below it
	Rights   []string   `json:"rights"` // and may do so much
	Created  time.Time  `json:"created"`
	Expires  time.Time  `json:"expires"`
	LastUsed *time.Time `json:"lastUsed,omitempty"`
}

// PortalTokenNew asks for a token.
type PortalTokenNew struct {
	Now    string   `json:"now"`
	Label  string   `json:"label"`
	Path   string   `json:"path"`
	Rights []string `json:"rights"`
	Days   int      `json:"days"`
}

// PortalTokenMade is a token, shown this once.
type PortalTokenMade struct {
	Token string `json:"token"`
}

// PortalSession is a sign-in with a browser.
type PortalSession struct {
	ID      string    `json:"id"`
	Address string    `json:"address"`
	Client  string    `json:"client"`
	Since   time.Time `json:"since"`
	This    bool      `json:"this"` // it is the one that asks
}

// PortalNow proves once more who asks.
type PortalNow struct {
	Now string `json:"now"` // the password
}

// PortalOwnPassword changes the password.
type PortalOwnPassword struct {
	Now  string `json:"now"`
	Next string `json:"next"`
}

// PortalCodes switches one-time codes on.
type PortalCodes struct {
	Now    string `json:"now"`
	Secret string `json:"secret"`
	Code   string `json:"code"`
}

// PortalKey adds public keys.
type PortalKey struct {
	Now   string `json:"now"`
	Key   string `json:"key"`
	Label string `json:"label"`
}

// PassTold is what somebody with a pass says of themselves.
type PassTold struct {
	Name    string `json:"name"`
	Mail    string `json:"mail"`
	Message string `json:"message"`
}
