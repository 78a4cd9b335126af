package signin

import (
	"cmp"
	"container/list"
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

// maxTallies bounds the networks, accounts and pairs of the two that are counted at once, and
// the familiar addresses; past it the least recent are forgotten, but never one that is locked out.
const maxTallies = 10_000

// Lockout is a time-limited refusal after failed sign-ins.
type Lockout struct {
	Address string // either this: an IPv4 address, or an IPv6 network of 64 bits
	Account string // or this
	Codes   bool   // only second factors: a right password and a wrong code came too often; with Address, from there
	Until   time.Time
	Failed  int
}

// Guard counts what guessing costs, and says who is locked out. What is guessed at is a target: an account, an operator, a
// pass; "" is what nobody can guess (a token, a link, a name that no account can have), of which only the network is counted.
// An IPv6 address counts with its network of 64 bits, which one visitor has whole.
//
// Guessing at a target from many addresses puts it on alert: an address that never signed in
// to it gets one try, and none any more once that has failed. So strangers can't keep an
// account's owner out, wherever the owner comes from. Nobody's success forgives failures at somebody else.
type Guard struct {
	Now func() time.Time // the clock

	mu       sync.Mutex
	limits   keep.Limits
	tallies  map[tallyKey]*list.Element // of *tally
	recent   list.List                  // the least recent last
	familiar map[tallyKey]time.Time     // account and network that signed in, and when
	networks map[string]int             // how many familiar accounts each network has
	codes    map[tallyKey]*codeTries    // at second factors: from one familiar network, or from all others
	changed  bool                       // since it was last given out to be kept
}

type tallyKey struct{ network, account string } // one of the two, or both

type tally struct {
	key      tallyKey
	failures []failure
	until    time.Time // it is locked out; of a pair: it has had its try
}

type failure struct {
	at     time.Time
	target string
}

// NewGuard makes a guard with limits.
func NewGuard(limits keep.Limits) *Guard {
	return &Guard{Now: time.Now, limits: limits, codes: map[tallyKey]*codeTries{}, tallies: map[tallyKey]*list.Element{}, familiar: map[tallyKey]time.Time{}, networks: map[string]int{}}
}

// Limits are those in force.
func (g *Guard) Limits() keep.Limits {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.limits
}

// Limit puts limits in force. Lockouts that are there stay.
func (g *Guard) Limit(limits keep.Limits) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.limits = limits
}

// OperatorTarget is what the guard calls an operator, and PassTarget a pass.
func OperatorTarget(name string) string { return "operator " + cut(name) }

// PassTarget is what the guard calls a pass.
func PassTarget(id string) string { return "pass " + id }

// cut is as much of what a stranger sent as is kept of it.
func cut(text string) string {
	if len(text) <= maxName {
		return text
	}
	return strings.Clone(text[:maxName])
}

// plainTarget is how a target is written in the tallies.
func plainTarget(target string) string {
	if len(target) > 2*maxName {
		return "" // no account can have that name
	}
	return strings.ToLower(target)
}

// network is what an address counts with.
func network(address string) string {
	if at, err := netip.ParseAddr(address); err == nil && at.Is6() && !at.Is4In6() {
		return netip.PrefixFrom(at.WithZone(""), 64).Masked().String()
	}
	return address
}

// AddressLocked reports whether an address is locked out, and until when.
func (g *Guard) AddressLocked(address string) (time.Time, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.locked(tallyKey{network: network(address)})
}

// Locked reports whether a target is locked out for an address, or the address
// altogether.
func (g *Guard) Locked(target, address string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	locked, _ := g.closed(plainTarget(target), network(address))
	return locked
}

// Claim is Locked for a try that begins now. The one try of an address that the target does not know is taken with it, so
// that others beside it get none; [Guard.Proved] gives it back.
func (g *Guard) Claim(target, address string) (locked bool) {
	key := tallyKey{network(address), plainTarget(target)}
	g.mu.Lock()
	defer g.mu.Unlock()
	locked, alert := g.closed(key.account, key.network)
	if alert && !locked {
		g.tally(key).until = g.spent()
	}
	return locked
}

// Proved says that what was shown of a target from an address was right, though more may be asked for.
func (g *Guard) Proved(target, address string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forget(tallyKey{network(address), plainTarget(target)})
}

// closed reports whether a target is locked out for a network, and whether it is on alert for that. The caller holds mu.
func (g *Guard) closed(target, from string) (locked, alert bool) {
	if _, locked := g.locked(tallyKey{network: from}); locked {
		return true, false
	}
	e := g.tallies[tallyKey{from, target}]
	spent := e != nil && g.Now().Before(e.Value.(*tally).until)
	if _, known := g.familiar[tallyKey{from, target}]; known || target == "" {
		return known && spent, false
	}
	if _, alert = g.locked(tallyKey{account: target}); !alert {
		return false, false
	}
	return spent, true
}

// spent is until when one that has had its try gets no other. The caller holds mu.
func (g *Guard) spent() time.Time {
	return g.Now().Add(g.limits.Lockout.Duration() + g.limits.Within.Duration())
}

// Familiar reports whether somebody has signed in from an address's network before.
func (g *Guard) Familiar(address string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.networks[network(address)] > 0
}

// known says of what is done for a visitor whether it comes from where somebody signed in before, who waits for no stranger.
func (g *Guard) known(ctx context.Context, v Visitor) context.Context {
	if g.Familiar(v.Address) {
		return source.Known(ctx)
	}
	return ctx
}

func (g *Guard) locked(key tallyKey) (time.Time, bool) {
	e := g.tallies[key]
	if e == nil {
		return time.Time{}, false
	}
	// One that was made under a wrong clock ends when it would have ended under the right one.
	until, now := e.Value.(*tally).until, g.Now()
	if !now.Before(until) || until.Sub(now) > g.limits.Lockout.Duration() {
		return time.Time{}, false
	}
	return until, true
}

// Failed counts a failed sign-in, and says what it locked out, "" for nothing. What is locked
// out already is not counted.
func (g *Guard) Failed(target, address string) (locked string) {
	target = plainTarget(target)
	from := network(address)
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, already := g.locked(tallyKey{network: from}); already {
		return ""
	}
	if g.count(tallyKey{network: from}, target, int(g.limits.FailuresPerAddress)) {
		locked = "the address " + from
	}
	if _, known := g.familiar[tallyKey{from, target}]; known || target == "" {
		// Who guesses at an operator from where it signs in waits, too: there is more to be had.
		if strings.HasPrefix(target, OperatorTarget("")) && g.count(tallyKey{from, target}, target, int(g.limits.FailuresPerAccount)) && locked == "" {
			locked = "the " + target + " at " + from
		}
		return locked
	}
	g.tally(tallyKey{from, target}).until = g.spent()
	if _, already := g.locked(tallyKey{account: target}); !already && g.count(tallyKey{account: target}, target, int(g.limits.FailuresPerAccount)) && locked == "" {
		locked = "the account " + target
		if strings.Contains(target, " ") { // the operator ann
			locked = "the " + target
		}
	}
	return locked
}

// tally is what is counted of a key, moved to the front. The caller holds mu.
func (g *Guard) tally(key tallyKey) *tally {
	e := g.tallies[key]
	if e == nil {
		g.makeRoom()
		e = g.recent.PushFront(&tally{key: key})
		g.tallies[key] = e
	}
	g.recent.MoveToFront(e)
	return e.Value.(*tally)
}

// count adds a failure, and reports whether it was the one that is too many.
func (g *Guard) count(key tallyKey, target string, limit int) bool {
	now, t := g.Now(), g.tally(key)
	t.failures = slices.DeleteFunc(t.failures, func(f failure) bool { return now.Sub(f.at) > g.limits.Within.Duration() })
	if len(t.failures) < limit {
		t.failures = append(t.failures, failure{now, target})
	}
	if len(t.failures) < limit {
		return false
	}
	t.until = now.Add(g.limits.Lockout.Duration())
	g.changed = true
	return true
}

// makeRoom forgets the least recent tally that locks nobody out.
func (g *Guard) makeRoom() {
	for n := 0; len(g.tallies) >= maxTallies && n < maxTallies; n++ {
		last := g.recent.Back()
		key := last.Value.(*tally).key
		if _, locked := g.locked(key); locked && (key.network == "" || key.account == "") {
			g.recent.MoveToFront(last)
			continue
		}
		g.recent.Remove(last)
		delete(g.tallies, key)
	}
}

func (g *Guard) forget(key tallyKey) {
	if e := g.tallies[key]; e != nil {
		g.recent.Remove(e)
		delete(g.tallies, key)
	}
}

// Succeeded forgets the failures of an address at a target, and no others; with place the address is familiar to it from now on.
func (g *Guard) Succeeded(target, address string, place bool) {
	key := tallyKey{network(address), plainTarget(target)}
	g.mu.Lock()
	defer g.mu.Unlock()
	if e := g.tallies[tallyKey{network: key.network}]; e != nil {
		t := e.Value.(*tally)
		t.failures = slices.DeleteFunc(t.failures, func(f failure) bool { return f.target == key.account })
	}
	g.forget(key)
	if place {
		g.rightCode(key)
		g.befriend(key, g.Now())
	}
}

// refreshed is how old the note of a familiar address may become before it is kept anew.
const refreshed = 24 * time.Hour

func (g *Guard) befriend(key tallyKey, at time.Time) {
	was, known := g.familiar[key]
	if !known {
		if len(g.familiar) >= maxTallies {
			oldest := tallyKey{}
			for k, at := range g.familiar {
				if oldest == (tallyKey{}) || at.Before(g.familiar[oldest]) {
					oldest = k
				}
			}
			delete(g.familiar, oldest)
			if g.networks[oldest.network]--; g.networks[oldest.network] == 0 {
				delete(g.networks, oldest.network)
			}
		}
		g.networks[key.network]++
	}
	g.familiar[key] = at
	g.changed = g.changed || !known || at.Sub(was) > refreshed
}

// Lockouts lists those in force, the latest to end first.
func (g *Guard) Lockouts() []Lockout {
	g.mu.Lock()
	defer g.mu.Unlock()
	found := []Lockout{}
	for key, e := range g.tallies {
		if until, locked := g.locked(key); locked && (key.network == "" || key.account == "") {
			found = append(found, Lockout{Address: key.network, Account: key.account, Until: until, Failed: len(e.Value.(*tally).failures)})
		}
	}
	found = append(found, g.codesLocked(g.Now())...)
	slices.SortFunc(found, func(a, b Lockout) int {
		return cmp.Or(b.Until.Compare(a.Until), cmp.Compare(a.Address+a.Account, b.Address+b.Account))
	})
	return found
}

// Lift ends the lockout of an address or account; false when there is none.
func (g *Guard) Lift(who string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	lifted := false
	for _, key := range []tallyKey{{network: network(strings.TrimSuffix(who, "/64"))}, {account: strings.ToLower(who)}, {account: strings.ToLower(OperatorTarget(who))}} {
		if _, locked := g.locked(key); locked {
			g.forget(key)
			lifted, g.changed = true, true
		}
	}
	for key := range g.codes {
		if key.account == strings.ToLower(who) || key.account == strings.ToLower(OperatorTarget(who)) {
			delete(g.codes, key)
			lifted, g.changed = true, true
		}
	}
	return lifted
}

// Kept is what outlives a restart.
type Kept struct {
	Lockouts []Lockout
	Familiar []FamiliarAddress
}

// FamiliarAddress is a network from which an account has signed in.
type FamiliarAddress struct {
	Network, Account string
	At               time.Time
}

// Keep gives what is to outlive a restart, if it has changed since it was last given.
func (g *Guard) Keep() (kept Kept, changed bool) {
	g.mu.Lock()
	changed, g.changed = g.changed, false
	if !changed {
		g.mu.Unlock()
		return kept, false
	}
	for key, at := range g.familiar {
		kept.Familiar = append(kept.Familiar, FamiliarAddress{key.network, key.account, at})
	}
	codes := g.codesLocked(time.Time{})
	g.mu.Unlock()
	kept.Lockouts = append(slices.DeleteFunc(g.Lockouts(), func(l Lockout) bool { return l.Codes }), codes...)
	return kept, true
}

// Recall takes what outlived a restart.
func (g *Guard) Recall(kept Kept) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, f := range kept.Familiar {
		g.befriend(tallyKey{f.Network, f.Account}, f.At)
	}
	for _, l := range kept.Lockouts {
		key := tallyKey{l.Address, plainTarget(l.Account)}
		if l.Codes {
			g.codes[key] = &codeTries{l.Failed, l.Until}
			continue
		}
		g.tallies[key] = g.recent.PushFront(&tally{key: key, until: l.Until})
	}
	g.changed = false
}
