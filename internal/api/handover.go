package api

import "time"

// PasswordLinkNew asks for a new password and a link that shows it once.
type PasswordLinkNew struct {
	Days       int  `json:"days"`       // how long the link works
	MustChange bool `json:"mustChange"` // the password, at the first sign-in
}

// PasswordLink is such a link, shown this once.
type PasswordLink struct {
	Link    string    `json:"link"`
	Shut    string    `json:"shut,omitempty"` // why nobody else can open it, and what to do
	Expires time.Time `json:"expires"`
}

// PasswordLinkOpen spends a link.
type PasswordLinkOpen struct {
	Secret string `json:"secret"`
}

// PasswordShown is what it held.
type PasswordShown struct {
	Account  string `json:"account"`
	Password string `json:"password"`
}
