package checkup

import (
	"fmt"
	"strings"
)

// State is how bad a finding is.
type State string

// The states, from best to worst.
const (
	Fine    State = "fine"
	Note    State = "note"    // meant so, perhaps: it should be known
	Warning State = "warning" // something will go wrong, or is weaker than it need be
	Fault   State = "fault"   // something does not work, or lies open
)

var order = map[State]int{Fine: 0, Note: 1, Warning: 2, Fault: 3}

// Finding is one line of a check-up.
type Finding struct {
	Check string `json:"check"` // what was looked at, in one fixed word
	Of    string `json:"of"`    // which one of it; "" where there is one
	State State  `json:"state"`
	Says  string `json:"says"` // what was seen
	Do    string `json:"do"`   // what to do; "": nothing
}

// Findings are the lines of a check-up, in the order in which they are looked at.
type Findings []Finding

// Add adds a line.
func (f *Findings) Add(check, of string, state State, do, says string, args ...any) {
	*f = append(*f, Finding{check, of, state, fmt.Sprintf(says, args...), do})
}

// Worst is the worst state there is.
func (f Findings) Worst() State {
	worst := Fine
	for _, one := range f {
		if order[one.State] > order[worst] {
			worst = one.State
		}
	}
	return worst
}

// named names up to five things.
func named(names []string) string {
	const most = 5
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}

// Named adds a line about several things, if there are any; says has one verb for their names.
func (f *Findings) Named(check string, state State, do, says string, names []string) {
	if len(names) > 0 {
		f.Add(check, "", state, do, says, named(names))
	}
}
