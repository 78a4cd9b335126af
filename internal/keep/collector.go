package keep

// Collector is where audit records are sent as syslog messages (RFC 5424). The zero
// value is nowhere.
type Collector struct {
	Address string `json:"address"` // tls://HOST:PORT, tcp://HOST:PORT or udp://HOST:PORT
	Trust   string `json:"trust"`   // certificates (PEM) that sign the collector's; "" for those of the system
}
