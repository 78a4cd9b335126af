package signin_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
)

// clock is a virtual one.
type clock struct{ at time.Time }

func guarded(limits keep.Limits) (*signin.Guard, *clock) {
	g, c := signin.NewGuard(limits), &clock{time.Now()}
	g.Now = func() time.Time { return c.at }
	return g, c
}

// A year of guessing from ten thousand networks, 64 tries of each at once, whenever a try is let through: at accounts,
// operators, passes, second factors, and at what is too long to be guessed.
func TestAYearOfGuessingFromTenThousandNetworksFindsNothing(t *testing.T) {
	const networks, wide = 10_000, 64
	g, c := guarded(keep.UsualLimits)
	home := "192.0.2.1"
	targets := []string{"ann", signin.OperatorTarget("ilse"), signin.PassTarget("abcd")}
	for _, target := range targets {
		g.Succeeded(target, home, true)
	}
	tries := map[string]int{}
	step := 2 * time.Minute
	const hours = 1 // what they cost is the same all the year, but for second factors
	for range int(hours * time.Hour / step) {
		for n := range networks / 100 { // each comes back every hundredth step or so
			from := fmt.Sprintf("2001:db8:%x:%x::1", n, int(c.at.Unix()/120)%100)
			for _, target := range targets {
				let := 0
				for range wide {
					if !g.Claim(target, from) {
						let++
					}
				}
				tries[target] += let
				for range let {
					g.Failed(target, from)
				}
			}
		}
		for _, target := range targets {
			assert.False(t, g.Claim(target, home), "its owner signs in where they did before")
			g.Succeeded(target, home, true)
		}
		c.at = c.at.Add(step)
	}
	for target, n := range tries {
		year := float64(n) * 365 * 24 / hours
		// Twelve letters and digits by chance; what people choose must pass an estimate of as much.
		t.Logf("%s: %.3g passwords are tried in a year, one of 36^12 is found with %.2g", target, year, year/4.7e18)
		assert.Less(t, year/4.7e18, 1e-6, target)
	}

	// Who knows the password guesses at the six digits, of which three are right at a time.
	tried := 0
	for range 365 * 6 {
		for n := range 10 {
			for range wide / 16 {
				if _, may, _ := g.TryCode("ann", fmt.Sprintf("2001:db8:%x::1", n)); may {
					tried++
				}
			}
		}
		_, may, _ := g.TryCode("ann", home)
		assert.True(t, may, "its owner, where they did before")
		g.Succeeded("ann", home, true)
		c.at = c.at.Add(4 * time.Hour)
	}
	t.Logf("%d codes are tried in a year by who knows the password, one is found with %.2g", tried, float64(tried)*3e-6)
	assert.Less(t, tried, 30)
}
