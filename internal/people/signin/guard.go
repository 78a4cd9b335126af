package signin

import (
	"cmp"
	"container/list"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/keep"
)

// maxTallies bounds the networks, accounts and pairs of the two that are counted at once, and
// the familiar addresses; past it the least recent are forgotten, but never one that is locked out.
const maxTallies = 10_000

// Lockout is a time-limited refusal after failed sign-ins.
type Lockout struct {
	Address string // either this: an IPv4 address, or an IPv6 network of 64 bits
	Account string // or this
	Until   time.Time
	Failed  int
}

// Guard counts failed sign-ins and says who is locked out. An IPv6 address counts with its
// network of 64 bits, which one visitor has whole.
//
// Guessing at an account from many addresses puts it on alert: an address that never signed in
// to it gets one try, and none any more once that has failed. So strangers can't keep an
// account's owner out, wherever the owner comes from.
type Guard struct {
	mu       sync.Mutex
	limits   keep.Limits
	tallies  map[tallyKey]*list.Element // of *tally
	recent   list.List                  // the least recent last
	familiar map[tallyKey]time.Time     // account and network that signed in, and when
	networks map[string]int             // how many familiar accounts each network has
	changed  bool                       // since it was last given out to be kept
}

type tallyKey struct{ network, account string } // one of the two, or both

type tally struct {
	key      tallyKey
	failures []time.Time
	until    time.Time
}

// NewGuard makes a guard with limits.
func NewGuard(limits keep.Limits) *Guard {
	return &Guard{limits: limits, tallies: map[tallyKey]*list.Element{}, familiar: map[tallyKey]time.Time{}, networks: map[string]int{}}
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

// Locked reports whether an account is locked out for an address, or the address
// altogether.
func (g *Guard) Locked(account, address string) bool {
	account = strings.ToLower(account)
	from := network(address)
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, locked := g.locked(tallyKey{network: from}); locked {
		return true
	}
	if _, known := g.familiar[tallyKey{from, account}]; known {
		return false
	}
	_, alert := g.locked(tallyKey{account: account})
	return alert && g.tallies[tallyKey{from, account}] != nil
}

// Familiar reports whether somebody has signed in from an address's network before.
func (g *Guard) Familiar(address string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.networks[network(address)] > 0
}

func (g *Guard) locked(key tallyKey) (time.Time, bool) {
	e := g.tallies[key]
	if e == nil {
		return time.Time{}, false
	}
	// One that was made under a wrong clock ends when it would have ended under the right one.
	until, now := e.Value.(*tally).until, time.Now()
	if !now.Before(until) || until.Sub(now) > g.limits.Lockout.Duration() {
		return time.Time{}, false
	}
	return until, true
}

// Failed counts a failed sign-in, and says what it locked out, "" for nothing. What is locked
// out already is not counted.
func (g *Guard) Failed(account, address string) (locked string) {
	account = strings.ToLower(account)
	from := network(address)
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, already := g.locked(tallyKey{network: from}); already {
		return ""
	}
	if g.count(tallyKey{network: from}, int(g.limits.FailuresPerAddress)) {
		locked = "the address " + from
	}
	if _, known := g.familiar[tallyKey{from, account}]; known {
		return locked
	}
	g.count(tallyKey{from, account}, 0)
	if _, already := g.locked(tallyKey{account: account}); !already && g.count(tallyKey{account: account}, int(g.limits.FailuresPerAccount)) && locked == "" {
		locked = "the account " + account
	}
	return locked
}

// count adds a failure, and reports whether it was the one that is too many; a limit of 0
// only counts.
func (g *Guard) count(key tallyKey, limit int) bool {
	now := time.Now()
	e := g.tallies[key]
	if e == nil {
		g.makeRoom()
		e = g.recent.PushFront(&tally{key: key})
		g.tallies[key] = e
	}
	g.recent.MoveToFront(e)
	t := e.Value.(*tally)
	t.failures = slices.DeleteFunc(t.failures, func(at time.Time) bool { return now.Sub(at) > g.limits.Within.Duration() })
	if len(t.failures) < max(limit, 1) {
		t.failures = append(t.failures, now)
	}
	if limit == 0 || len(t.failures) < limit {
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
		if _, locked := g.locked(key); locked {
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

// Succeeded forgets the failures of an address and makes it familiar to the account.
func (g *Guard) Succeeded(account, address string) {
	account = strings.ToLower(account)
	from := network(address)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forget(tallyKey{network: from})
	g.forget(tallyKey{from, account})
	g.befriend(tallyKey{from, account}, time.Now())
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
		if until, locked := g.locked(key); locked {
			found = append(found, Lockout{Address: key.network, Account: key.account, Until: until, Failed: len(e.Value.(*tally).failures)})
		}
	}
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
	for _, key := range []tallyKey{{network: network(strings.TrimSuffix(who, "/64"))}, {account: strings.ToLower(who)}} {
		if _, locked := g.locked(key); locked {
			g.forget(key)
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
	g.mu.Unlock()
	kept.Lockouts = g.Lockouts()
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
		key := tallyKey{l.Address, l.Account}
		g.tallies[key] = g.recent.PushFront(&tally{key: key, until: l.Until})
	}
	g.changed = false
}
