package checkup

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"urbankeep/internal/keep"
)

// Port is a range of ports that must be open, and forwarded where a router is in front.
type Port struct {
	Low  int    `json:"low"`
	High int    `json:"high"`
	For  string `json:"for"`
	Here bool   `json:"here,omitempty"` // it is to be open on this machine, and not forwarded
}

// Span writes the range, as in "47000-47099".
func (p Port) Span() string { return p.span("-") }

func (p Port) span(to string) string {
	if p.Low == p.High {
		return strconv.Itoa(p.Low)
	}
	return fmt.Sprintf("%d%s%d", p.Low, to, p.High)
}

// Ports are the TCP ports to open and forward. Management is the port by which the machine
// itself is administered, which comes first so that opening the others locks nobody out.
func Ports(posts []Post, management int) []Port {
	var ports []Port
	if management > 0 {
		ports = append(ports, Port{Low: management, High: management, For: "administration of this machine", Here: true})
	}
	for i := range posts {
		p := &posts[i]
		if p.Stopped || p.At == "" || !p.outside() {
			continue
		}
		ports = append(ports, Port{Low: p.port(), High: p.port(), For: "listener " + p.Name + ", " + map[keep.Protocol]string{keep.FTP: "FTP", keep.FTPS: "FTP over TLS", keep.SFTP: "SFTP", keep.Web: "web"}[p.Protocol]})
		if p.Protocol.IsFTP() {
			ports = append(ports, Port{Low: p.PassiveLow, High: p.PassiveHigh, For: "listener " + p.Name + ", passive data connections"})
		}
	}
	return ports
}

// firewalls write the commands that open a range of ports, for the common packet filters.
var firewalls = map[string]struct {
	head, foot []string
	open       func(Port) string
}{
	"nftables": {open: func(p Port) string {
		return fmt.Sprintf("nft add rule inet filter input tcp dport %s accept comment '\"%s\"'", p.Span(), p.For)
	}, foot: []string{"# the rules must stand before one that drops: nft -a list chain inet filter input shows them"}},
	"iptables": {open: func(p Port) string {
		both := []string{}
		for _, program := range []string{"iptables", "ip6tables"} {
			both = append(both, fmt.Sprintf("%s -A INPUT -p tcp --dport %s -m comment --comment '%s' -j ACCEPT", program, p.span(":"), p.For))
		}
		return strings.Join(both, "\n")
	}, foot: []string{"# the rules must stand before one that drops: iptables -L INPUT --line-numbers shows them"}},
	"ufw": {open: func(p Port) string { return fmt.Sprintf("ufw allow %s/tcp comment '%s'", p.span(":"), p.For) }},
	"firewalld": {open: func(p Port) string { return fmt.Sprintf("firewall-cmd --permanent --add-port=%s/tcp", p.Span()) },
		foot: []string{"firewall-cmd --reload"}},
	"pf": {head: []string{"# lines for /etc/pf.conf; pfctl -n -f /etc/pf.conf checks them, pfctl -f /etc/pf.conf puts them in force"},
		open: func(p Port) string { return fmt.Sprintf("pass in proto tcp to port %s  # %s", p.span(":"), p.For) }},
	"windows": {open: func(p Port) string {
		return fmt.Sprintf("New-NetFirewallRule -DisplayName 'Urban Keep: %s' -Direction Inbound -Protocol TCP -LocalPort %s -Action Allow", p.For, p.Span())
	}},
}

// Firewalls are the packet filters that are known.
func Firewalls() []string {
	var names []string
	for name := range firewalls {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Commands are what opens the ports in a packet filter, in their order. They are for an
// administrator to read and run: the program never does.
func Commands(filter string, ports []Port) ([]string, error) {
	known, ok := firewalls[filter]
	if !ok {
		return nil, &keep.FieldError{Field: "firewall", Say: fmt.Sprintf("%q is not known: use %s", filter, strings.Join(Firewalls(), ", "))}
	}
	lines := slices.Clone(known.head)
	for _, p := range ports {
		lines = append(lines, strings.Split(known.open(p), "\n")...)
	}
	return append(lines, known.foot...), nil
}
