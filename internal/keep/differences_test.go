package keep

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Changes are said in the words of the commands.
func TestChangesAreSaidInWords(t *testing.T) {
	for _, c := range []struct {
		before, after string
		say           []string
	}{
		{`null`, `{"note": "x"}`, []string{"added"}}, {`{"note": "x"}`, `null`, []string{"removed"}},
		{`{"settings": {"speedUp": 102400}}`, `{"settings": {"validUntil": "2027-03-01T00:00:00Z"}}`, []string{"speed up: 100 KiB/s → not set", "valid until: not set → 2027-03-01 00:00 UTC"}},
		{`{"settings": {"allow": []}}`, `{"settings": {"allow": ["192.0.2.0/24"], "maxSessions": 4}}`, []string{"networks allowed: everybody → 192.0.2.0/24", "sessions at once: not set → 4"}},
		{`{"deny": [], "passiveLow": 47000, "stopped": false, "banner": ""}`, `{"deny": ["203.0.113.0/24"], "passiveLow": 48000, "stopped": true, "banner": "hi\nthere"}`,
			[]string{"banner: none → hi there", "networks denied: nobody → 203.0.113.0/24", "passive low: 47000 → 48000", "stopped: no → yes"}},
		{`{"days": 0}`, `{"days": 400}`, []string{"days: ever → 400"}},
		{`{"mounts": [{"at": "/", "store": "files", "folder": "a"}], "grants": []}`, `{"mounts": [{"at": "/", "store": "files", "folder": "b"}], "grants": [{"path": "/in", "rights": "add-only"}]}`,
			[]string{"grants: none → /in=add-only", "mounts: /=files:a → /=files:b"}},
		{`{"note": "a"}`, `{"note": "a"}`, []string{}},
	} {
		assert.Equal(t, c.say, Differences(json.RawMessage(c.before), json.RawMessage(c.after)), c.after)
	}
}
