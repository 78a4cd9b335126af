package api

// Finding is one line of a check-up.
type Finding struct {
	Check string `json:"check"` // what was looked at
	Of    string `json:"of"`    // which one of it
	State string `json:"state"` // "fine", "note", "warning" or "fault"
	Says  string `json:"says"`  // what was seen
	Do    string `json:"do"`    // what to do; "": nothing
}

// Checkup is what a check-up found.
type Checkup struct {
	Worst    string    `json:"worst"`
	Findings []Finding `json:"findings"`
}

// Port is a range of TCP ports to open and to forward.
type Port struct {
	Low  int    `json:"low"`
	High int    `json:"high"`
	For  string `json:"for"`
	Here bool   `json:"here,omitempty"` // it is to be open on this machine, and not forwarded
}

// Ports are they all, and the commands that open them where a packet filter was named.
type Ports struct {
	Ports     []Port   `json:"ports"`
	Firewalls []string `json:"firewalls"` // that are known
	Commands  []string `json:"commands"`
}

// IsWrong reports whether a state asks for something to be done.
func IsWrong(state string) bool { return state == "warning" || state == "fault" }

// SetupStep is one step of the set-up.
type SetupStep struct {
	Step  string    `json:"step"`
	Title string    `json:"title"`
	Why   string    `json:"why"`
	State string    `json:"state"` // "open", "done" or "skipped"
	Says  string    `json:"says"`  // what is so now
	Check []Finding `json:"check"` // what a check-up finds of it
}

// SetupMark says how far a step is.
type SetupMark struct {
	State string `json:"state"`
}
