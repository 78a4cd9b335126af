package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"urbankeep/internal/keep"
)

// The clock was set on, or the machine slept: the timer of a session's account has not gone
// off, and the account's time has ended all the same.
func TestASessionEndsWhenItsAccountsTimeHasByTheClockOnTheWall(t *testing.T) {
	d := &door{inside: map[*visit]bool{}}
	ended := map[string]keep.Reason{}
	for name, until := range map[string]time.Time{"past": time.Now().Add(-time.Second), "future": time.Now().Add(time.Hour), "always": {}} {
		account := &keep.Effective{Account: &keep.Account{Name: name, State: keep.StateActive}, Terms: keep.Terms{ValidUntil: keep.Moment{Time: until}}}
		d.inside[&visit{door: d, account: account, cut: func(why *keep.Fault) { ended[name] = why.Reason }}] = true
	}
	d.endWhatHasEnded()
	assert.Equal(t, map[string]keep.Reason{"past": keep.AccountChanged}, ended)
}
