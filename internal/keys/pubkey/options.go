package pubkey

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
)

// harmless are options of one-line keys about what this service never does:
// shells, terminals and forwarding.
var harmless = []string{"restrict", "pty", "no-pty", "user-rc", "no-user-rc", "port-forwarding", "no-port-forwarding", "agent-forwarding",
	"no-agent-forwarding", "x11-forwarding", "no-x11-forwarding", "permitopen", "permitlisten", "tunnel", "environment"}

// options puts the options that stand before a one-line key into it: from,
// expiry-time and cert-authority. One that would change what the key may do, and
// that is not known here, is refused: to leave it out could open more than was meant.
func options(key *keep.Key, text string) *keep.FieldError {
	for _, option := range split(text) {
		name, value, _ := strings.Cut(option, "=")
		value = strings.Trim(value, `"`)
		switch name = strings.ToLower(name); {
		case name == "from":
			networks, err := keep.ParseNetworks("key", value)
			if err != nil {
				return wrong("its option from= is not a list of addresses and networks, as in from=\"192.0.2.0/24\": host names and patterns are not looked up here")
			}
			key.Networks = networks
		case name == "expiry-time":
			until, err := expiry(value)
			if err != nil {
				return wrong(fmt.Sprintf("its option expiry-time=%q is not YYYYMMDD or YYYYMMDDHHMM, with Z for UTC", value))
			}
			key.Expires = until
		case name == "cert-authority":
			key.Authority = true
		case slices.Contains(harmless, name):
		default:
			return wrong(fmt.Sprintf("its option %q is not one this service can keep: take it off if the key may be used without it; from, expiry-time and cert-authority are understood", name))
		}
	}
	return nil
}

// split cuts options at commas that are not between quotes.
func split(text string) []string {
	quoted := false
	return strings.FieldsFunc(text, func(r rune) bool {
		if r == '"' {
			quoted = !quoted
		}
		return !quoted && (r == ',' || r == ' ')
	})
}

// expiry reads YYYYMMDD[HHMM[SS]], in the machine's time zone or with Z in UTC.
func expiry(text string) (time.Time, error) {
	zone := time.Local
	if utc, ok := strings.CutSuffix(text, "Z"); ok {
		text, zone = utc, time.UTC
	}
	layout := map[int]string{8: "20060102", 12: "200601021504", 14: "20060102150405"}[len(text)]
	if layout == "" {
		return time.Time{}, fmt.Errorf("not a time: %q", text)
	}
	t, err := time.ParseInLocation(layout, text, zone)
	return t.UTC(), err
}
