package keep

import (
	"fmt"
	"time"
)

// Step is one thing that decides whether an account may do something.
type Step struct {
	Name string `json:"step"` // account, sign-in, gate, right
	OK   bool   `json:"ok"`
	Say  string `json:"say"`
}

// Question asks whether an account may do something.
type Question struct {
	Right     Rights // one
	Path      string // clean and absolute
	At        time.Time
	From      string // IP address, "" when it does not matter
	Keys      int    // that the account has
	Listeners []Listener
}

// Explain says what decides, step by step from the gate to the right, as
// enforcement does. The account may when every step is OK. What it can't see is
// what lies behind a symbolic link, and whether a file is there: that decides
// which right an upload takes.
func Explain(a *Account, q Question) []Step {
	steps := []Step{gateStep(q)}
	closed := Step{"account", true, "the account is active"}
	if fault := a.Closed(q.At); fault != nil {
		closed = Step{"account", false, fault.Say}
	}
	proof := Step{"sign-in", a.CanSignIn(q.Keys), "it signs in by: " + a.Means(q.Keys)}
	verdict := NewPolicy(a).Decide(q.Right, q.Path)
	return append(steps, closed, proof, Step{"right", verdict.Allowed, verdict.String()})
}

// gateStep looks for a listener that lets the address in.
func gateStep(q Question) Step {
	open, refused := "", ""
	for _, l := range q.Listeners {
		switch {
		case l.Stopped:
		case q.From == "" || l.Admits(q.From):
			open += " " + l.Name
		default:
			refused += " " + l.Name
		}
	}
	switch {
	case open == "" && refused == "":
		return Step{"gate", false, "no listener is running"}
	case open == "":
		return Step{"gate", false, fmt.Sprintf("%s may not connect: refused by the network rules of%s", q.From, refused)}
	case q.From == "":
		return Step{"gate", true, "listeners:" + open}
	case refused != "":
		return Step{"gate", true, fmt.Sprintf("%s may connect to%s, not to%s", q.From, open, refused)}
	}
	return Step{"gate", true, fmt.Sprintf("%s may connect to%s", q.From, open)}
}
