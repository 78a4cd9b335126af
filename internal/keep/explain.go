package keep

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Step is one thing that decides whether an account may do something.
type Step struct {
	Name string `json:"step"` // gate, lockout, account, source, networks, protocols, sign-in, sessions, right, quota
	OK   bool   `json:"ok"`
	Say  string `json:"say"`
}

// Question asks whether an account may do something. Besides what is asked it
// holds what stands in the house at that moment.
type Question struct {
	Right Rights // one
	Path  string // clean and absolute
	At    time.Time
	From  string   // IP address, "" when it does not matter
	Over  Protocol // "": any
	Pass  *Pass    // with which it is asked for; nil: with what the account itself shows

	Route     Route // that its name fits
	Keys      int   // that the account has
	Sessions  int   // it has now
	Gate      Rules
	Listeners []Listener
	LockedOut string // why it is, "" when it is not
	Room      []Room // of the places with a quota that hold the path
}

// Room is how much a place with a quota holds now.
type Room struct {
	At    string // path of the tree where it begins
	Quota Quota
	Used  Quota
}

// Explain says what decides, step by step from the gate to the quota, as
// enforcement does. The account may when every step is OK. What it can't see is
// what lies behind a symbolic link, and whether a file is there: that decides
// which right an upload takes.
func Explain(e *Effective, q Question) []Step {
	if q.Pass != nil {
		return explainPass(e, q)
	}
	steps := []Step{gateStep(e, q)}
	if q.LockedOut != "" {
		steps = append(steps, Step{"lockout", false, q.LockedOut})
	}
	closed := Step{"account", true, "the account is active"}
	if fault := e.Closed(q.At); fault != nil {
		closed = Step{"account", false, fault.Say}
	}
	steps = append(steps, closed)
	if e.Source != "" || len(q.Route.Sources) > 0 && !slices.Equal(q.Route.Sources, everybody.Sources) {
		from := Step{"source", true, fmt.Sprintf("it comes from %s, which the route %s asks", e.From(), q.Route.Pattern)}
		if why := q.Route.Asks(e.Account); why != nil {
			from.OK, from.Say = false, why.Say
		}
		steps = append(steps, from)
	}
	if len(e.Allow)+len(e.Deny) > 0 {
		steps = append(steps, networkStep(e, q.From))
	}
	steps = append(steps, Step{"sign-in", e.CanSignIn(q.Keys) && !e.MustChange, "it signs in by: " + e.Means(q.Keys) + map[bool]string{true: "; it must change its password first, over SFTP"}[e.MustChange]})
	if q.Over != "" {
		steps = append(steps, Step{"protocols", e.MayUse(q.Over), "it may sign in over: " + sayList(e.Protocols, "all but scp")})
	}
	if e.MaxSessions > 0 {
		steps = append(steps, Step{"sessions", q.Sessions < int(e.MaxSessions), fmt.Sprintf("%d of at most %d are open", q.Sessions, e.MaxSessions)})
	}
	return append(steps, e.rightSteps(q)...)
}

// explainPass is Explain for somebody with a pass.
func explainPass(e *Effective, q Question) []Step {
	gate := Step{"gate", false, "no listener is running that shows passes"}
	for _, l := range q.Listeners {
		switch {
		case !l.Serves(PassesFace):
		case q.From == "" || q.Gate.Admit(q.From) && l.Admits(q.From):
			gate = Step{"gate", true, "listener " + l.Name}
		case !gate.OK:
			gate.Say = q.From + " may not connect: refused by network rules"
		}
	}
	p := q.Pass
	open := Step{"pass", true, fmt.Sprintf("it is a pass to %s, until %s", p.Kind, p.Expires.UTC().Format("2006-01-02 15:04:05 UTC"))}
	switch closed := p.Closed(q.At); {
	case closed != nil:
		open.OK, open.Say = false, closed.Say
	case p.UsedUp():
		open.OK, open.Say = false, fmt.Sprintf("it has been used as often as it may, %d times: only who is in the middle of a use goes on", p.Uses)
	}
	steps := []Step{gate, open}
	if len(p.Networks) > 0 {
		steps = append(steps, Step{"networks", q.From == "" || p.Networks.Has(q.From), "the pass works from " + sayNetworks(p.Networks, "everywhere")})
	}
	account := Step{"account", true, "the account is active"}
	if why := p.Allowed(e, q.At); why != nil {
		account = Step{"account", false, why.Say}
	}
	steps = append(steps, account)
	if p.Password != "" {
		steps = append(steps, Step{"password", true, "it asks for a password"})
	}
	return append(steps, e.Within(p.Scope()).rightSteps(q)...)
}

// rightSteps are the right itself and the room for it.
func (e *Effective) rightSteps(q Question) []Step {
	over := q.Over
	if q.Pass != nil {
		over = ByPass
	}
	var steps []Step
	if m := NewPolicy(e).MountOf(q.Path); m != nil && len(m.Protocols) > 0 {
		there, _ := m.Protocols.over(over)
		steps = append(steps, Step{"mount", over == "" || there, fmt.Sprintf("the mount %s is there over %s", m.At, m.Protocols)})
	}
	if over != "" {
		e = e.Over(over)
	}
	verdict := NewPolicy(e).Decide(q.Right, q.Path, q.At)
	steps = append(steps, Step{"right", verdict.Allowed, verdict.Explain() + e.passedOver(verdict)})
	if q.Right&(Upload|Overwrite|Mkdir|Link) != 0 {
		for _, room := range q.Room {
			steps = append(steps, room.step())
		}
	}
	return steps
}

// passedOver names the groups whose grants on the deciding folder don't count, because the
// account has its own there.
func (e *Effective) passedOver(v Verdict) string {
	var names []string
	for _, g := range e.passed {
		if v.ground != nil && g.Path == v.ground.path && !slices.Contains(names, g.From) {
			names = append(names, g.From)
		}
	}
	if names == nil {
		return ""
	}
	return "; in place of what " + strings.Join(names, " and ") + " would give there"
}

func networkStep(e *Effective, from string) Step {
	rules := fmt.Sprintf("networks allowed: %s; denied: %s", sayNetworks(e.Allow, "everybody"), sayNetworks(e.Deny, "nobody"))
	if from == "" {
		return Step{"networks", true, rules}
	}
	return Step{"networks", e.Admit(from), from + " against " + rules}
}

// Left is how much of a quota is free: bytes and files, each -1 for any.
func (r Room) Left() (bytes, files int64) {
	bytes, files = -1, -1
	if r.Quota.Bytes > 0 {
		bytes = max(0, int64(r.Quota.Bytes-r.Used.Bytes))
	}
	if r.Quota.Files > 0 {
		files = max(0, int64(r.Quota.Files-r.Used.Files))
	}
	return bytes, files
}

func (r Room) step() Step {
	bytes, files := r.Left()
	said := fmt.Sprintf("%s holds %s", r.At, SaySize(int64(r.Used.Bytes)))
	if r.Quota.Bytes > 0 {
		said += fmt.Sprintf(" of %s", SaySize(int64(r.Quota.Bytes)))
	}
	if r.Quota.Files > 0 {
		said += fmt.Sprintf(", %d of %d files", r.Used.Files, r.Quota.Files)
	}
	return Step{"quota", bytes != 0 && files != 0, said}
}

// gateRules says whom the rules of the service and of its listeners let connect, for who did
// not ask from where.
func gateRules(q Question) string {
	text := ""
	say := func(of string, rules Rules) {
		if len(rules.Allow)+len(rules.Deny) > 0 {
			text += fmt.Sprintf("; %s: networks allowed: %s; denied: %s", of, sayNetworks(rules.Allow, "everybody"), sayNetworks(rules.Deny, "nobody"))
		}
	}
	say("of the service", q.Gate)
	for _, l := range q.Listeners {
		if !l.Stopped {
			say("of "+l.Name, Rules{l.Allow, l.Deny})
		}
	}
	return text
}

// gateStep looks for a listener that lets the address in.
func gateStep(e *Effective, q Question) Step {
	if q.From != "" && !q.Gate.Admit(q.From) {
		return Step{"gate", false, fmt.Sprintf("%s may not connect: refused by the network rules of the service", q.From)}
	}
	open, refused := "", ""
	for _, l := range q.Listeners {
		switch {
		case l.Stopped, l.Protocol == Web && !(l.Serves(PortalFace) && e.MayUse(Portal) || l.Serves(DavFace) && e.MayUse(WebDAV)), l.Protocol != Web && !e.MayEnter(l.Protocol):
		case q.From == "" || l.Admits(q.From):
			open += " " + l.Name
		default:
			refused += " " + l.Name
		}
	}
	switch {
	case open == "" && refused == "":
		return Step{"gate", false, "no listener is running that it may use"}
	case open == "":
		return Step{"gate", false, fmt.Sprintf("%s may not connect: refused by the network rules of%s", q.From, refused)}
	case q.From == "":
		return Step{"gate", true, "listeners:" + open + gateRules(q)}
	case refused != "":
		return Step{"gate", true, fmt.Sprintf("%s may connect to%s, not to%s", q.From, open, refused)}
	}
	return Step{"gate", true, fmt.Sprintf("%s may connect to%s", q.From, open)}
}
