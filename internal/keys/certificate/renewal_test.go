package certificate

import (
	"crypto/x509"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// An authority that is away for a week, from the moment on when a certificate is due, is asked again and again, yet not
// all the time, and the certificate is renewed long before its end.
func TestAnAuthorityMayBeAwayForAWeek(t *testing.T) {
	begun := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	leaf := &x509.Certificate{NotBefore: begun, NotAfter: begun.Add(90 * 24 * time.Hour)}
	k := &Keeper{}
	first := k.due(leaf)
	assert.Equal(t, begun.Add(60*24*time.Hour), first)
	tries, last := 0, first
	for now := first; now.Before(first.Add(7 * 24 * time.Hour)); now = k.due(leaf) {
		assert.LessOrEqual(t, now.Sub(last), longestPause)
		tries, last = tries+1, now
		k.renewal.failed, k.renewal.last = tries, now
	}
	assert.Less(t, tries, 50)
	assert.Greater(t, tries, 28)
	assert.Less(t, k.due(leaf), leaf.NotAfter.Add(-20*24*time.Hour))
	// It goes on after the end, too.
	k.renewal.last = leaf.NotAfter.Add(48 * time.Hour)
	assert.Equal(t, k.renewal.last.Add(longestPause), k.due(leaf))
}

// What an authority says of the time is followed within reason: one that always wants it now is not asked all the time.
func TestTheWishesOfAnAuthorityAreBounded(t *testing.T) {
	begun := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	leaf := &x509.Certificate{NotBefore: begun, NotAfter: begun.Add(90 * 24 * time.Hour)}
	day := func(n int) time.Time { return begun.AddDate(0, 0, n) }
	for _, c := range []struct {
		wish time.Time
		due  time.Time
	}{{time.Time{}, day(60)}, {day(50), day(50)}, {day(70), day(70)}, {day(1), day(45)}, {day(-30), day(45)}, {day(200), day(60)}} {
		k := &Keeper{renewal: renewal{window: c.wish}}
		assert.Equal(t, c.due, k.due(leaf), c.wish)
	}
	k := &Keeper{renewal: renewal{window: day(1), urgent: true}}
	assert.Equal(t, begun.Add(time.Hour), k.due(leaf), "one that is taken back is renewed, at most once an hour")
}
