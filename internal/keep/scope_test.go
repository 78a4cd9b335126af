package keep

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A scope takes away and never gives.
func TestAScopeOnlyNarrows(t *testing.T) {
	account := &Account{Name: "ann", State: StateActive, Mounts: []Mount{{At: "/", Store: "files", Folder: "ann"}},
		Grants: []Grant{{Path: "/", Rights: List | Download | Upload}, {Path: "/plates/closed", Rights: List}}}
	e, err := Resolve(account, nil)
	require.NoError(t, err)
	whole, narrow := NewPolicy(e), NewPolicy(e.Within(&Scope{Paths: []string{"/plates"}, Rights: Full}))
	now := time.Now()
	for _, at := range []string{"/", "/plates", "/plates/x", "/plates/closed/x", "/platesx", "/other/x"} {
		for right := List; right <= Link; right <<= 1 {
			want := whole.Decide(right, at, now).Allowed && Covers("/plates", at)
			assert.Equal(t, want, narrow.Decide(right, at, now).Allowed, "%v on %s", right.Names(), at)
		}
	}
	assert.True(t, narrow.Any("/"), "it lies on the way")
	assert.False(t, narrow.Any("/other"))
	assert.False(t, narrow.See("/other", true, now).Allowed)
	assert.Equal(t, "download on /other/x is refused: only list,download on /plates is given here",
		NewPolicy(e.Within(&Scope{Paths: []string{"/plates"}, Rights: List | Download})).Decide(Download, "/other/x", now).String())
	assert.Same(t, e, e.Within(nil))
}
