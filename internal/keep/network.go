package keep

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// Networks are IP networks in which an address is looked up. A single address is
// a network of one.
type Networks []netip.Prefix

// ParseNetworks reads addresses and networks, separated by commas or blanks, in
// the form of RFC 4632, section 3.1 ("192.0.2.0/24") and RFC 4291, section 2.3. The
// error is a [*FieldError].
func ParseNetworks(field, text string) (Networks, error) {
	var found Networks
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' || r == '\n' }) {
		network, err := netip.ParsePrefix(word)
		if err != nil {
			address, aerr := netip.ParseAddr(word)
			if aerr != nil {
				return nil, &FieldError{field, fmt.Sprintf("%q is no address or network: use the form 192.0.2.7 or 192.0.2.0/24", word)}
			}
			network = netip.PrefixFrom(address.Unmap().WithZone(""), address.Unmap().BitLen())
		}
		found = append(found, network.Masked())
	}
	return found, nil
}

// Has reports whether an IP address lies in one of the networks; text that is no
// address lies in none.
func (n Networks) Has(address string) bool {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	ip = ip.Unmap().WithZone("")
	for _, network := range n {
		if network.Contains(ip) {
			return true
		}
	}
	return false
}

// String writes them as [ParseNetworks] reads them.
func (n Networks) String() string {
	words := make([]string, len(n))
	for i, network := range n {
		words[i] = network.String()
		if network.IsSingleIP() {
			words[i] = network.Addr().String()
		}
	}
	return strings.Join(words, ",")
}

// MarshalText writes them as [ParseNetworks] reads them.
func (n Networks) MarshalText() ([]byte, error) { return []byte(n.String()), nil }

// ParseAllowed reads who may: what [ParseNetworks] reads, or everybody, which is an empty list.
func ParseAllowed(field, text string) (Networks, error) {
	switch strings.TrimSpace(text) {
	case "everybody":
		return nil, nil
	case "nobody", "none":
		return nil, &FieldError{field, "that lets nobody in: use -deny everybody, if that is meant"}
	}
	return ParseNetworks(field, text)
}

// ParseDenied reads who may not: what [ParseNetworks] reads, nobody, which is an empty list, or everybody.
func ParseDenied(field, text string) (Networks, error) {
	switch strings.TrimSpace(text) {
	case "nobody", "none":
		return nil, nil
	case "everybody":
		text = "0.0.0.0/0,::/0"
	}
	return ParseNetworks(field, text)
}

// UnmarshalText reads what [ParseNetworks] reads.
func (n *Networks) UnmarshalText(text []byte) error {
	found, err := ParseNetworks("", string(text))
	if err != nil {
		return errors.New(err.(*FieldError).Say)
	}
	*n = found
	return nil
}

// MarshalJSON writes a list.
func (n Networks) MarshalJSON() ([]byte, error) {
	list := make([]string, len(n))
	for i, network := range n {
		list[i] = Networks{network}.String()
	}
	return json.Marshal(list)
}

// UnmarshalJSON reads a list or a text.
func (n *Networks) UnmarshalJSON(raw []byte) error { return listFromJSON(raw, n) }

// Rules let addresses in: those of Allow, everybody when it is empty, but none of
// Deny.
type Rules struct {
	Allow Networks `json:"allow"`
	Deny  Networks `json:"deny"`
}

// Admit reports whether an IP address may come in.
func (r Rules) Admit(address string) bool {
	return (len(r.Allow) == 0 || r.Allow.Has(address)) && !r.Deny.Has(address)
}
