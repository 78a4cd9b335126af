package checkup

import (
	"fmt"
	"os"
	"strconv"
	"strings"
)

// ephemeral is the range of ports that the system gives to outgoing connections, 0 and 0
// where the ports asked about are kept out of it.
func ephemeral() (low, high int) {
	text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range")
	if err != nil {
		return 0, 0
	}
	fmt.Sscan(string(text), &low, &high)
	return low, high
}

// reserved reports whether a range of ports is kept out of it.
func reserved(low, high int) bool {
	text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_reserved_ports")
	if err != nil {
		return false
	}
	for _, one := range strings.Split(strings.TrimSpace(string(text)), ",") {
		first, last, ok := strings.Cut(one, "-")
		from, err1 := strconv.Atoi(first)
		to, err2 := strconv.Atoi(last)
		if !ok {
			to, err2 = from, err1
		}
		if err1 == nil && err2 == nil && from <= low && to >= high {
			return true
		}
	}
	return false
}
