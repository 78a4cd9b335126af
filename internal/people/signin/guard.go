package signin

import (
	"slices"
	"strings"
	"sync"
	"time"
)

// Limits say when failed sign-ins lead to a lockout.
type Limits struct {
	Address int           // failures of one address
	Account int           // failures on one account from addresses that never signed in to it
	Within  time.Duration // in which they are counted
	Lockout time.Duration // how long a lockout lasts
}

// DefaultLimits are the usual ones: enough for a person who tries all their
// passwords, far too few for a program that tries a list.
var DefaultLimits = Limits{Address: 20, Account: 10, Within: 10 * time.Minute, Lockout: 15 * time.Minute}

// maxTallies bounds the addresses and accounts that are counted at once; past it
// the oldest are forgotten.
const maxTallies = 10_000

// Lockout is a time-limited refusal after failed sign-ins.
type Lockout struct {
	Address string // either this
	Account string // or this
	Until   time.Time
	Failed  int
}

// Guard counts failed sign-ins and says who is locked out. An account's lockout
// holds for addresses that have not signed in to it before, so that a stranger
// who guesses can't keep its owner out. Nothing of it outlives the process.
type Guard struct {
	Limits Limits

	mu       sync.Mutex
	tallies  map[tallyKey]*tally
	familiar map[[2]string]time.Time // account and address that signed in, and when
}

type tallyKey struct{ address, account string } // one of the two

type tally struct {
	failures []time.Time
	until    time.Time
}

// AddressLocked reports whether an address is locked out, and until when.
func (g *Guard) AddressLocked(address string) (time.Time, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.locked(tallyKey{address: address})
}

// Locked reports whether an account is locked out for an address, or the address
// altogether.
func (g *Guard) Locked(account, address string) bool {
	account = strings.ToLower(account)
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, locked := g.locked(tallyKey{address: address}); locked {
		return true
	}
	if _, known := g.familiar[[2]string{account, address}]; known {
		return false
	}
	_, locked := g.locked(tallyKey{account: account})
	return locked
}

func (g *Guard) locked(key tallyKey) (time.Time, bool) {
	t := g.tallies[key]
	if t == nil || time.Now().After(t.until) {
		return time.Time{}, false
	}
	return t.until, true
}

// Failed counts a failed sign-in, and says what it locked out, "" for nothing.
func (g *Guard) Failed(account, address string) (locked string) {
	account = strings.ToLower(account)
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.count(tallyKey{address: address}, g.Limits.Address) {
		locked = "the address " + address
	}
	if _, known := g.familiar[[2]string{account, address}]; !known && g.count(tallyKey{account: account}, g.Limits.Account) && locked == "" {
		locked = "the account " + account
	}
	return locked
}

// count adds a failure, and reports whether it was the one that is too many.
func (g *Guard) count(key tallyKey, limit int) bool {
	now := time.Now()
	t := g.tallies[key]
	if t == nil {
		if len(g.tallies) >= maxTallies || g.tallies == nil {
			g.tallies = map[tallyKey]*tally{}
		}
		t = &tally{}
		g.tallies[key] = t
	}
	t.failures = slices.DeleteFunc(t.failures, func(at time.Time) bool { return now.Sub(at) > g.Limits.Within })
	t.failures = append(t.failures, now)
	if len(t.failures) < limit || now.Before(t.until) {
		return false
	}
	t.until = now.Add(g.Limits.Lockout)
	return true
}

// Succeeded forgets the failures of an address and makes it familiar to the account.
func (g *Guard) Succeeded(account, address string) {
	account = strings.ToLower(account)
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.tallies, tallyKey{address: address})
	if len(g.familiar) >= maxTallies || g.familiar == nil {
		g.familiar = map[[2]string]time.Time{}
	}
	g.familiar[[2]string{account, address}] = time.Now()
}

// Lockouts lists those in force, the latest to end first.
func (g *Guard) Lockouts() []Lockout {
	g.mu.Lock()
	defer g.mu.Unlock()
	found := []Lockout{}
	for key, t := range g.tallies {
		if time.Now().Before(t.until) {
			found = append(found, Lockout{Address: key.address, Account: key.account, Until: t.until, Failed: len(t.failures)})
		}
	}
	slices.SortFunc(found, func(a, b Lockout) int { return b.Until.Compare(a.Until) })
	return found
}

// Lift ends the lockout of an address or account; false when there is none.
func (g *Guard) Lift(who string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	lifted := false
	for _, key := range []tallyKey{{address: who}, {account: strings.ToLower(who)}} {
		if _, locked := g.locked(key); locked {
			delete(g.tallies, key)
			lifted = true
		}
	}
	return lifted
}
