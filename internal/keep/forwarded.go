package keep

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
)

// Forwarding is which headers the proxies of a web listener write to tell for whom they ask, joined by commas; "": none, they use
// the PROXY protocol. What a client sends of that kind comes through a proxy that does not write it, so no other is believed.
type Forwarding string

// The headers, as a listener names them.
const (
	ByForwarded     = "forwarded" // RFC 7239, alone
	ByForwardedFor  = "x-forwarded-for"
	forwardedProto  = "x-forwarded-proto"
	forwardedHost   = "x-forwarded-host"
	everyForwarding = ByForwardedFor + "," + forwardedProto + "," + forwardedHost // what was believed before each was named
)

// ForwardingHeaders are all of them, as they stand in requests.
var ForwardingHeaders = []string{"Forwarded", "X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host"}

// Writes reports whether the proxies write a header.
func (f Forwarding) Writes(header string) bool {
	return slices.Contains(strings.Split(string(f), ","), strings.ToLower(header))
}

// UnmarshalJSON takes what was said when it was a yes or a no, too.
func (f *Forwarding) UnmarshalJSON(text []byte) error {
	switch {
	case bytes.Equal(text, []byte("true")):
		*f = everyForwarding
		return nil
	case bytes.Equal(text, []byte("false")):
		*f = ""
		return nil
	}
	return json.Unmarshal(text, (*string)(f))
}

// check brings it into its usual form.
func (f *Forwarding) check() error {
	words := strings.FieldsFunc(strings.ToLower(string(*f)), func(r rune) bool { return r == ',' || r == ' ' })
	slices.Sort(words)
	words = slices.Compact(words)
	switch {
	case len(words) == 0 || len(words) == 1 && words[0] == "none":
		*f = ""
		return nil
	case len(words) == 1 && words[0] == ByForwarded:
	case !slices.Contains(words, ByForwardedFor), slices.ContainsFunc(words, func(w string) bool { return w != ByForwardedFor && w != forwardedProto && w != forwardedHost }):
		return &FieldError{"forwarded", "use none, forwarded, or x-forwarded-for, with x-forwarded-proto and x-forwarded-host where the proxy writes those, too, whatever the client sent"}
	}
	*f = Forwarding(strings.Join(words, ","))
	return nil
}
