package keep_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
)

func TestRetentionGoesByTheKindFirst(t *testing.T) {
	now := time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)
	listings, err := keep.ParseKind("list, sign-out=30")
	require.NoError(t, err)
	changes, err := keep.ParseKind("account-set=ever")
	require.NoError(t, err)
	r := keep.Retention{Days: 400, Kinds: []keep.KindRetention{listings, changes}}
	require.NoError(t, r.Check())
	assert.Equal(t, 30, r.Shortest())
	for _, c := range []struct {
		action keep.Action
		age    int
		goes   bool
	}{
		{keep.Listing, 29, false}, {keep.Listing, 31, true}, {keep.SignOut, 31, true}, {keep.Uploading, 31, false}, {keep.Uploading, 399, false},
		{keep.Uploading, 401, true}, {keep.AccountSet, 100_000, false},
	} {
		record := keep.AuditRecord{Action: c.action, At: now.AddDate(0, 0, -c.age)}
		assert.Equal(t, c.goes, r.LetsGo(&record, now), "%s after %d days", c.action, c.age)
	}
	ever := keep.Retention{}
	assert.Zero(t, ever.Shortest())
	assert.False(t, ever.LetsGo(&keep.AuditRecord{Action: keep.Listing}, now))
	assert.Equal(t, 5, (&keep.Retention{Days: 5}).Shortest())
}

func TestARetentionThatMakesNoSenseIsRefused(t *testing.T) {
	for name, r := range map[string]keep.Retention{
		"before now":    {Days: -1},
		"too long":      {Days: 40_000},
		"nothing named": {Kinds: []keep.KindRetention{{Days: 3}}},
		"named twice":   {Kinds: []keep.KindRetention{{Actions: []keep.Action{"list"}, Days: 3}, {Actions: []keep.Action{"list"}, Days: 4}}},
		"empty name":    {Kinds: []keep.KindRetention{{Actions: []keep.Action{""}, Days: 3}}},
	} {
		assert.Error(t, r.Check(), name)
	}
	for _, text := range []string{"", "list", "=3", "list=soon", "list=3=4"} {
		_, err := keep.ParseKind(text)
		assert.ErrorContains(t, err, "ACTION,ACTION=DAYS", text)
	}
}
