package api

import (
	"encoding/json"
	"time"

	"urbankeep/internal/keep"
)

// Strength is an estimate of how hard a password is to guess.
type Strength struct {
	Score int    `json:"score"` // 0, guessed at once, to 4, not to be guessed
	Say   string `json:"say"`
}

// PasswordTest asks for a password's strength.
type PasswordTest struct {
	Password string `json:"password"`
	Account  string `json:"account,omitempty"`
}

// SettingKnown is a setting that accounts and groups can have.
type SettingKnown struct {
	Name  string `json:"name"`
	Label string `json:"label"`
	Help  string `json:"help"`
}

// Group is settings, mounts and grants that its accounts inherit.
type Group struct {
	Name     string          `json:"name"`
	Note     string          `json:"note"`
	Settings keep.Settings   `json:"settings"`
	Sets     []keep.SetValue `json:"sets"` // the settings, in words too
	Mounts   []keep.Mount    `json:"mounts"`
	Grants   []keep.Grant    `json:"grants"`
	Members  int             `json:"members"`  // accounts that are in it
	Accounts []string        `json:"accounts"` // the first of them, by name
	Created  time.Time       `json:"created"`
	Changed  time.Time       `json:"changed"`
}

// GroupNew asks for a new group.
type GroupNew struct {
	Name     string                     `json:"name"`
	Note     string                     `json:"note,omitempty"`
	Settings map[string]json.RawMessage `json:"settings,omitempty"`
	Mounts   []keep.Mount               `json:"mounts,omitempty"`
	Grants   []keep.Grant               `json:"grants,omitempty"`
}

// GroupChange asks for changes, as [AccountChange] does.
type GroupChange struct {
	Note     *string                    `json:"note,omitempty"`
	Settings map[string]json.RawMessage `json:"settings,omitempty"`
	Mounts   *[]keep.Mount              `json:"mounts,omitempty"`
	Grants   *[]keep.Grant              `json:"grants,omitempty"`
}

// MostUsers is how many of a store's users are named.
const MostUsers = 50

// Store is a place where bytes live.
type Store struct {
	Name      string         `json:"name"`
	Kind      keep.StoreKind `json:"kind"`
	Where     string         `json:"where"`               // in a word
	Folder    string         `json:"folder,omitempty"`    // disk, sealed: on the service's machine
	Site      *keep.Site     `json:"site,omitempty"`      // what it is made of besides; its secret is never shown
	Recipient string         `json:"recipient,omitempty"` // sealed: the public key that files are encrypted to
	Users     int            `json:"users"`               // accounts and groups with a mount in it
	MountedBy []string       `json:"mountedBy"`           // the first of them, groups as "group NAME"

	Hashes     bool            `json:"hashes"`         // the trail holds the SHA-256 of each whole upload
	Previews   bool            `json:"previews"`       // small pictures are made of what is in it
	Durability keep.Durability `json:"durability"`     // what an acknowledgement promises of what is in it
	Away       string          `json:"away,omitempty"` // why it can't be used now
	Key        string          `json:"key,omitempty"`  // sealed, just added: what opens its files, for safe keeping; it is shown this once
}

// StoreCheck is what trying a store found, in the order in which it was tried.
type StoreCheck struct {
	Fine  bool        `json:"fine"` // all of it can be done
	Steps []StoreStep `json:"steps"`
}

// StoreStep is one thing that the service asks of a store.
type StoreStep struct {
	What string `json:"what"`
	Fine bool   `json:"fine"`
	Say  string `json:"say,omitempty"` // what went wrong
	Took int64  `json:"took"`          // milliseconds
}

// StoreMove is the move of all that is in one store to another, planned or under way.
type StoreMove struct {
	From        string   `json:"from"`
	To          string   `json:"to"`
	Phase       string   `json:"phase"` // planned, copying, closing (nobody uses the store while the last files are brought), done, failed
	Files       int64    `json:"files"`
	Bytes       int64    `json:"bytes"`
	CopiedFiles int64    `json:"copiedFiles"`
	CopiedBytes int64    `json:"copiedBytes"`
	SameFiles   int64    `json:"sameFiles"`           // were there already, verified before
	Left        int64    `json:"left"`                // names that can't be brought, such as links to a store without links
	Users       int      `json:"users,omitempty"`     // planned: whose mounts will lead to the other store
	MountedBy   []string `json:"mountedBy,omitempty"` // the first of them
	Say         string   `json:"say,omitempty"`       // failed: why; planned: what is worth a word before
}

// StoreMoveAsked asks for a move.
type StoreMoveAsked struct {
	To  string `json:"to"`
	Dry bool   `json:"dry,omitempty"` // only plan it
}

// Passphrase unlocks the key of a sealed store.
type Passphrase struct {
	Passphrase string `json:"passphrase"`
}

// StoreChange changes a store; what is nil stays.
type StoreChange struct {
	Durability *keep.Durability `json:"durability,omitempty"`
	Hashes     *bool            `json:"hashes,omitempty"`
	Previews   *bool            `json:"previews,omitempty"`
	User       *string          `json:"user,omitempty"`
	Secret     *string          `json:"secret,omitempty"`
	SecretFrom *string          `json:"secretFrom,omitempty"`
	KeyFile    *string          `json:"keyFile,omitempty"`
	HostKeys   *[]string        `json:"hostKeys,omitempty"`
	Recipients *[]string        `json:"recipients,omitempty"`
}

// AuditDurability is what an acknowledgement promises of the audit trail.
type AuditDurability struct {
	Durability keep.Durability `json:"durability"`
}

// StoreNew asks for a store.
type StoreNew struct {
	Name       string         `json:"name"`
	Kind       keep.StoreKind `json:"kind,omitempty"`   // "": disk
	Folder     string         `json:"folder,omitempty"` // disk, sealed: on the service's machine
	Site       keep.Site      `json:"site"`
	Secret     string         `json:"secret,omitempty"`     // object, blob, remote
	Passphrase string         `json:"passphrase,omitempty"` // sealed, with the key "passphrase"
}

// Grounds are the folders below which stores may lie; none: anywhere.
type Grounds struct {
	Grounds []string `json:"grounds"`
}

// Gate is the network rules of the service. An empty list of networks is all of
// them for allow and none for deny.
type Gate struct {
	Allow keep.Networks `json:"allow"`
	Deny  keep.Networks `json:"deny"`
	Meant bool          `json:"meant,omitempty"` // asked for although it shuts out the operator who asks
}

// Quota is a folder with a quota and what it holds.
type Quota struct {
	Store    string     `json:"store"`
	Folder   string     `json:"folder"`
	Quota    keep.Quota `json:"quota"`
	Used     keep.Quota `json:"used"`
	Accounts []string   `json:"accounts"` // with a mount of it
	Counting bool       `json:"counting"`
	Counted  *time.Time `json:"counted,omitempty"`
}

// QuotaSample is what a folder held at a time.
type QuotaSample struct {
	At    time.Time `json:"at"`
	Bytes int64     `json:"bytes"`
	Files int64     `json:"files"`
}

// QuotaPlace names a folder with a quota.
type QuotaPlace struct {
	Store  string `json:"store"`
	Folder string `json:"folder"`
}

// Recount is what counting a folder anew found.
type Recount struct {
	BytesBefore int64 `json:"bytesBefore"`
	FilesBefore int64 `json:"filesBefore"`
	BytesNow    int64 `json:"bytesNow"`
	FilesNow    int64 `json:"filesNow"`
}

// Roster asks for an import.
type Roster struct {
	CSV string `json:"csv"`
	Dry bool   `json:"dry,omitempty"` // say what would change, and change nothing
}

// RosterLine is what one line of an import does.
type RosterLine struct {
	Line     int      `json:"line"`
	Account  string   `json:"account"`
	Does     string   `json:"does"` // add, change, nothing, or refused
	Changes  []string `json:"changes"`
	Say      string   `json:"say,omitempty"`
	Password string   `json:"password,omitempty"` // generated, shown this once
}

// Rehearsal is what was tried as an account, and how it went.
type Rehearsal struct {
	Account string         `json:"account"`
	Agrees  bool           `json:"agrees"` // everything went as it should
	Tries   []RehearsalTry `json:"tries"`
}

// RehearsalTry is one thing that was tried.
type RehearsalTry struct {
	Protocol keep.Protocol `json:"protocol"`
	Listener string        `json:"listener"`
	Does     string        `json:"does"`
	Path     string        `json:"path"`
	Expected string        `json:"expected"` // "allowed" or "refused"
	Observed string        `json:"observed"`
	Why      string        `json:"why"`
	Agrees   bool          `json:"agrees"`
}

// ReportKnown is a report that can be asked for.
type ReportKnown struct {
	Name  string `json:"name"`
	About string `json:"about"` // "account", "place" (STORE:PATH), or "" for nothing in particular
	Title string `json:"title"`
}

// Report is a question that auditors ask, answered as a table.
type Report struct {
	Name    string     `json:"name"`
	Title   string     `json:"title"`
	Since   *time.Time `json:"since,omitempty"` // how far it looks back; nil: it tells of now
	Columns []string   `json:"columns"`
	Rows    [][]string `json:"rows"`
	Cut     bool       `json:"cut"` // there is more than is shown
}
