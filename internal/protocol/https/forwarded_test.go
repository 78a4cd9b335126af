package https

import (
	"strings"
	"testing"
)

// Whatever a client sends before it, what the proxy says last is what counts, or nothing does.
func FuzzForwarded(f *testing.F) {
	for _, seed := range []string{"", "for=1.2.3.4", `for="1.2.3.4`, `for=1.2.3.4;x="`, `for="[2001:db8::1]:80";proto=https`, `a="\\"`, ",;=,\"\\"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, sent string) {
		if strings.ContainsAny(sent, "\r\n\x00") {
			return
		}
		hops := elements(sent + ", for=192.0.2.9;proto=http;host=h")
		if last := hops[len(hops)-1]; last != (hop{"192.0.2.9", "http", "h"}) && (len(hops) != 1 || last != hop{}) {
			t.Fatalf("%q makes it %+v", sent, hops)
		}
	})
}
