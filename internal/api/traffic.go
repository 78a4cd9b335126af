package api

import (
	"time"

	"urbankeep/internal/keep"
)

// Live is one message of the live stream: what is new since the one before.
type Live struct {
	Full      bool       `json:"full"` // forget what you knew; this is everything
	Now       time.Time  `json:"now"`
	Sessions  []Session  `json:"sessions"`           // new ones
	Moves     []Move     `json:"moves,omitempty"`    // of sessions that were told of
	Gone      []string   `json:"gone"`               // sessions and transfers that are no more
	Transfers []Transfer `json:"transfers"`          // new ones and ended ones
	Progress  []Progress `json:"progress,omitempty"` // of transfers that were told of
	Beat      Beat       `json:"beat"`               // the last second
	Live      int        `json:"live"`               // sessions
	Running   int        `json:"running"`            // transfers
}

// Move is what a live session does now.
type Move struct {
	ID     string      `json:"id"`
	Active time.Time   `json:"active"`
	Doing  keep.Action `json:"doing"`
	Path   string      `json:"path"`
	Up     int64       `json:"up"`
	Down   int64       `json:"down"`
}

// Progress is how far a running transfer is.
type Progress struct {
	ID    string   `json:"id"`
	Bytes int64    `json:"bytes"`
	Rate  int64    `json:"rate"` // bytes per second, lately
	Left  *float64 `json:"left,omitempty"`
}

// Beat is what was moved and done in one second.
type Beat struct {
	At         time.Time `json:"at"`
	Up         int64     `json:"up"` // bytes
	Down       int64     `json:"down"`
	Operations int64     `json:"operations"`
}

// Amount is how much traffic there was.
type Amount struct {
	Up         int64   `json:"up"` // bytes
	Down       int64   `json:"down"`
	Operations int64   `json:"operations"` // all, however they ended
	Refused    int64   `json:"refused"`
	Failed     int64   `json:"failed"`  // or interrupted
	Seconds    float64 `json:"seconds"` // that the operations took altogether
}

// Point is how much there was in one hour or day.
type Point struct {
	At time.Time `json:"at"` // where it begins
	Amount
}

// TrafficRow is how much of it one account, group or so had.
type TrafficRow struct {
	Value   string `json:"value"`
	Account string `json:"account,omitempty"` // whose file it is, where rows are files
	Amount
	Points []Point `json:"points,omitempty"` // of the rows that had the most
}

// Traffic is traffic over time.
type Traffic struct {
	Since  time.Time    `json:"since"`
	Until  time.Time    `json:"until"`
	Step   string       `json:"step"` // hour, day
	Zone   string       `json:"zone"` // in which days begin
	By     string       `json:"by,omitempty"`
	Total  Amount       `json:"total"`
	Points []Point      `json:"points"`
	Rows   []TrafficRow `json:"rows"`
	Cut    bool         `json:"cut"` // there is more than is told
}
