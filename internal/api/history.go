package api

import (
	"encoding/json"
	"time"

	"urbankeep/internal/keep"
)

// Identity is how the service presents itself.
type Identity struct {
	Name string `json:"name"` // what it is called
	Host string `json:"host"` // under which clients reach it
}

// IdentityChange changes it; nil fields stay.
type IdentityChange struct {
	Name *string `json:"name,omitempty"`
	Host *string `json:"host,omitempty"`
}

// Change is one change of the settings.
type Change struct {
	ID       int64           `json:"id"`
	At       time.Time       `json:"at"`
	Operator string          `json:"operator"`
	Address  string          `json:"address"`
	Action   keep.Action     `json:"action"`
	What     string          `json:"what"`   // the kind of thing
	Name     string          `json:"name"`   // which; "" where there is one of the kind
	Before   json.RawMessage `json:"before"` // null: it was not there
	After    json.RawMessage `json:"after"`  // null: it is gone
	Says     []string        `json:"says"`   // what differs, for people
	Undoes   int64           `json:"undoes,omitempty"`
	UndoneBy int64           `json:"undoneBy,omitempty"`
}
