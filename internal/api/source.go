package api

import (
	"time"

	"urbankeep/internal/keep"
)

// Source is who says whether somebody is who they say, and how that does.
type Source struct {
	keep.Source
	HasSecret bool       `json:"hasSecret"`
	Accounts  int        `json:"accounts"`            // that come from it
	AwaySince *time.Time `json:"awaySince,omitempty"` // since when it can't be asked
	Trouble   string     `json:"trouble,omitempty"`   // why
}

// SourceAsk makes or changes a source, on which it is read; what is not there stays as it is.
type SourceAsk struct {
	*keep.Source
	Secret *string `json:"secret,omitempty"` // "": none
}

// Apply puts the secret into the source.
func (a *SourceAsk) Apply() {
	if a.Secret != nil {
		a.Source.Secret = keep.Secret(*a.Secret)
	}
}

// SourceTry asks for a check of a source.
type SourceTry struct {
	Account  string `json:"account,omitempty"`
	Password string `json:"password,omitempty"`
}

// SourceTried is what came of it.
type SourceTried struct {
	OK    bool        `json:"ok"`
	Steps []keep.Step `json:"steps"`
}

// Routes are which sources are asked, in order; who fits none is asked for in the own records.
type Routes struct {
	Routes []keep.Route `json:"routes"`
}
