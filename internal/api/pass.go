package api

import (
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// Pass is a link for somebody without an account. Its secret is shown once, by [PassMade].
type Pass struct {
	ID       string        `json:"id"`
	Account  string        `json:"account"`
	Kind     keep.PassKind `json:"kind"`
	Paths    []string      `json:"paths"`
	Shows    bool          `json:"shows"`
	Asks     bool          `json:"asks"`
	Apart    bool          `json:"apart"`
	Password bool          `json:"password"` // it asks for one
	Text     string        `json:"text"`
	Note     string        `json:"note"`
	MaxUses  int64         `json:"maxUses"`  // 0: any number
	MaxBytes int64         `json:"maxBytes"` // 0: any
	Networks []string      `json:"networks"`
	By       string        `json:"by"` // the operator who made it; "": the account's holder
	Created  time.Time     `json:"created"`
	Expires  time.Time     `json:"expires"`
	Ended    *time.Time    `json:"ended"` // by hand; null: it was not
	EndedBy  string        `json:"endedBy"`
	Open     bool          `json:"open"` // it works now, as far as its account does
	Uses     int64         `json:"uses"`
	Bytes    int64         `json:"bytes"`
	LastUsed *time.Time    `json:"lastUsed"`
}

// PassNew asks for a pass.
type PassNew struct {
	Account  string        `json:"account,omitempty"` // of operators only
	Kind     keep.PassKind `json:"kind"`
	Paths    []string      `json:"paths"`
	Days     float64       `json:"days"`
	Password string        `json:"password,omitempty"`
	Text     string        `json:"text,omitempty"`
	Note     string        `json:"note,omitempty"`
	MaxUses  int64         `json:"maxUses,omitempty"`
	MaxBytes int64         `json:"maxBytes,omitempty"`
	Networks []string      `json:"networks,omitempty"`
	Shows    bool          `json:"shows,omitempty"`
	Asks     bool          `json:"asks,omitempty"`
	Apart    bool          `json:"apart,omitempty"`
	MailTo   string        `json:"mailTo,omitempty"` // to whom the link is mailed; "": to nobody
}

// PassMade is a new pass and its link.
type PassMade struct {
	Pass      Pass   `json:"pass"`
	Link      string `json:"link"`                // where no listener shows passes to others: from /pass/ on
	Shut      string `json:"shut,omitempty"`      // why nobody else can open the link, and what to do
	Mailed    string `json:"mailed,omitempty"`    // what the mail server said
	MailError string `json:"mailError,omitempty"` // why the link was not mailed
}

// PassUse is what one address did with a pass.
type PassUse struct {
	Address string    `json:"address"`
	Client  string    `json:"client"`
	Began   time.Time `json:"began"`
	Last    time.Time `json:"last"`
	Files   int64     `json:"files"`
	Bytes   int64     `json:"bytes"`
	Session string    `json:"session"` // in which it began
	Name    string    `json:"name"`    // what the visitor says
	Mail    string    `json:"mail"`
	Message string    `json:"message"`
}

// PassesEnded says how many were.
type PassesEnded struct {
	Ended int `json:"ended"`
}

// PassOf shows a pass.
func PassOf(p keep.Pass, account string, now time.Time) Pass {
	return Pass{ID: p.ID, Account: account, Kind: p.Kind, Paths: p.Paths, Shows: p.Shows, Asks: p.Asks, Apart: p.Apart, Password: p.Password != "", Text: p.Text, Note: p.Note,
		MaxUses: int64(p.MaxUses), MaxBytes: int64(p.MaxBytes), Networks: NetworkList(p.Networks), By: p.Operator, Created: p.Created.UTC(), Expires: p.Expires.UTC(),
		Ended: Known(p.Ended), EndedBy: p.EndedBy, Open: p.Closed(now) == nil && !p.UsedUp(), Uses: p.Uses, Bytes: p.Bytes, LastUsed: Known(p.LastUsed)}
}

// UseOf shows a use.
func UseOf(u keep.PassUse) PassUse {
	return PassUse{Address: u.Address, Client: u.Client, Began: u.Began.UTC(), Last: u.Last.UTC(), Files: u.Files, Bytes: u.Bytes, Session: u.ID, Name: u.Name, Mail: u.Mail, Message: u.Message}
}

// Pass is what is asked for, as far as the one who asks can say; Life how long it is to live.
func (n PassNew) Pass() (p keep.Pass, life time.Duration, err error) {
	p = keep.Pass{Kind: n.Kind, Paths: n.Paths, Text: n.Text, Note: n.Note, MaxUses: keep.Count(n.MaxUses), MaxBytes: keep.Bytes(n.MaxBytes), Shows: n.Shows, Asks: n.Asks, Apart: n.Apart}
	if !(n.Days > 0 && n.Days <= 366) {
		return p, 0, &keep.FieldError{Field: "days", Say: "use more than 0, at most 366"}
	}
	p.Networks, err = keep.ParseNetworks("networks", strings.Join(n.Networks, ","))
	return p, time.Duration(n.Days * 24 * float64(time.Hour)), err
}
