package signin

import "time"

const (
	// freeCodes is how many wrong second factors cost nothing but the delay, firstPause how long none is looked at after the
	// next one, which doubles with each; codesAge is after how long without any they are forgotten.
	freeCodes  = 5
	firstPause = time.Minute
	codesAge   = 30 * 24 * time.Hour
	maxPauses  = 20 // doublings: two years
)

// codeTries are the second factors that were shown to a target in vain, by somebody who knew its password: from one network
// where it signed in before, or from all others together. So guessing from everywhere costs as much as from one place, and
// keeps nobody out where they signed in before.
type codeTries struct {
	failed int
	until  time.Time // none is looked at before; else when the last was
}

// TryCode counts a second factor before it is looked at, and says until when none is, if that is so; alert says that this is
// the first one that cost a pause. What was right is told to [Guard.Succeeded].
func (g *Guard) TryCode(target, address string) (until time.Time, may, alert bool) {
	key := tallyKey{network(address), plainTarget(target)}
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, known := g.familiar[key]; !known {
		key.network = ""
	}
	now, c := g.Now(), g.codes[key]
	if c == nil {
		c = &codeTries{}
		g.codes[key] = c
	}
	if c.until.After(now.Add(firstPause << maxPauses)) { // written under a wrong clock
		c.until = now
	}
	if now.Before(c.until) {
		return c.until, false, false
	}
	if now.Sub(c.until) > codesAge {
		c.failed = 0
	}
	c.failed++
	c.until, g.changed = now, true
	if more := c.failed - freeCodes; more >= 0 {
		c.until = now.Add(firstPause << min(more, maxPauses))
		return c.until, true, more == 0
	}
	return c.until, true, false
}

// rightCode takes back what [Guard.TryCode] counted of one that was right, and where the target is familiar all that was counted
// there. The caller holds mu, and has not made the network familiar yet.
func (g *Guard) rightCode(key tallyKey) {
	if _, known := g.familiar[key]; known {
		delete(g.codes, key)
	} else if c := g.codes[tallyKey{account: key.account}]; c != nil && c.failed > 0 {
		c.failed--
		c.until = g.Now()
	}
}

// codesLocked are the targets whose second factors are not looked at before some time, or were not. The caller holds mu.
func (g *Guard) codesLocked(after time.Time) (found []Lockout) {
	for key, c := range g.codes {
		if !c.until.Before(after) {
			found = append(found, Lockout{Address: key.network, Account: key.account, Codes: true, Until: c.until, Failed: c.failed})
		}
	}
	return found
}

// wait is how long it is until a moment.
func (g *Guard) wait(until time.Time) string { return until.Sub(g.Now()).Round(time.Second).String() }
