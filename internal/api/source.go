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
		a.Source.Secret, a.Source.Kept = keep.Secret(*a.Secret), false
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
	Routes  []keep.Route `json:"routes"`
	ShutOut []string     `json:"shutOut,omitempty"` // accounts whose source their route does not ask, the first of them
}

// SyncAsk asks for the accounts of a source to be brought in step with it.
type SyncAsk struct {
	Go      bool `json:"go,omitempty"`      // do it; else it is only planned
	Leavers int  `json:"leavers,omitempty"` // how many may be suspended; 0: as many as the source's settings let
}

// SourceSync is what is to be done for that, or was done.
type SourceSync struct {
	People  int        `json:"people"` // whom the source knows
	Come    int        `json:"come"`
	Change  int        `json:"change"`
	Leave   int        `json:"leave"`
	Lines   []SyncLine `json:"lines"` // the first thousand
	Stopped string     `json:"stopped,omitempty"`
	Done    bool       `json:"done"`
}

// SyncLine is what is done with one account.
type SyncLine struct {
	Account string `json:"account"`
	Does    string `json:"does"` // add, change, suspend, resume, nothing
	Say     string `json:"say"`
}
