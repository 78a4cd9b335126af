package keep

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// Listener is one address on which one protocol is served.
type Listener struct {
	Name       string     `json:"name"`
	Protocol   Protocol   `json:"protocol"`
	Address    string     `json:"address"` // host:port; no host: every address of the machine
	Stopped    bool       `json:"stopped"`
	Encryption Encryption `json:"encryption"`
	Banner     string     `json:"banner"`  // before the sign-in
	Welcome    string     `json:"welcome"` // after it; {account} and {time} stand for themselves. FTP only
	Allow      Networks   `json:"allow"`   // only these may connect; none: everybody
	Deny       Networks   `json:"deny"`    // these may not, whatever Allow says
	// Proxies are from where connections tell for whom they are; what others tell is not believed.
	Proxies     Networks `json:"proxies"`
	Certificate string   `json:"certificate"` // its name; "": the one for the name that the client asks for

	// Web only:
	Faces     []Face     `json:"faces"`
	Hosts     []string   `json:"hosts"`     // the names that it answers to; none: every name
	Redirect  string     `json:"redirect"`  // a web listener with TLS, or an origin, that every request is sent on to; "": none
	Forwarded Forwarding `json:"forwarded"` // by which headers of each request Proxies tell; "": by the PROXY protocol

	// FTP only:
	PassiveLow         int    `json:"passiveLow"`  // first passive port
	PassiveHigh        int    `json:"passiveHigh"` // last passive port
	Advertise          string `json:"advertise"`   // address or name that clients outside are told for passive mode; "": the one they reached
	NoActive           bool   `json:"noActive"`    // refuse PORT and EPRT
	ResumeData         bool   `json:"resumeData"`  // data connections must resume the TLS session of their command connection
	ClientCertificates bool   `json:"clientCertificates"`
}

// Protocol is what a listener speaks.
type Protocol string

// The protocols.
const (
	FTP     Protocol = "ftp"  // with TLS on request (RFC 4217)
	FTPS    Protocol = "ftps" // TLS from the first byte
	SFTP    Protocol = "sftp"
	SCP     Protocol = "scp"     // the legacy copy protocol, which comes by SFTP's listeners
	Web     Protocol = "web"     // HTTP, with TLS or without
	Portal  Protocol = "portal"  // account holders, over HTTP
	WebDAV  Protocol = "dav"     // account holders, over HTTP
	ByPass  Protocol = "pass"    // whoever has a link, over HTTP
	Console Protocol = "console" // operators, over HTTP
	Local   Protocol = "local"   // operators, over the control socket
)

// IsFTP reports whether it is FTP, with TLS on request or from the first byte.
func (p Protocol) IsFTP() bool { return p == FTP || p == FTPS }

// Encryption is what a listener asks of its clients.
type Encryption string

// The encryption policies.
const (
	EncryptionRequired Encryption = "required"
	EncryptionOptional Encryption = "optional"
	EncryptionOff      Encryption = "off"
)

// MaxBanner bounds a banner, bytes: SSH clients take no more than a screen of it.
const MaxBanner = 1000

// Check reports what is wrong with the listener as a [*FieldError].
func (l *Listener) Check() error {
	if err := CheckName("name", l.Name); err != nil {
		return err
	}
	switch l.Protocol {
	case FTP, FTPS, SFTP, Web:
	default:
		return &FieldError{"protocol", fmt.Sprintf("%q is not known: use ftp, ftps, sftp or web", l.Protocol)}
	}
	if _, err := l.Port(); err != nil {
		return err
	}
	if err := l.checkEncryption(); err != nil {
		return err
	}
	for field, text := range map[string]string{"banner": l.Banner, "welcome": l.Welcome} {
		if len(text) > MaxBanner {
			return &FieldError{field, fmt.Sprintf("it is longer than %d bytes", MaxBanner)}
		}
		if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\n' }) {
			return &FieldError{field, "it holds control characters other than line breaks"}
		}
	}
	if l.Certificate != "" {
		if err := CheckName("certificate", l.Certificate); err != nil {
			return err
		}
	}
	if err := l.checkWeb(); err != nil {
		return err
	}
	if !l.Protocol.IsFTP() {
		return l.checkNotFTP()
	}
	return l.checkPassive()
}

// Port is the port of the address; 0 leaves the choice to the system.
func (l *Listener) Port() (int, error) {
	host, port, err := splitAddress(l.Address)
	if err != nil {
		return 0, err
	}
	if _, err := netip.ParseAddr(host); host != "" && host != "localhost" && err != nil {
		return 0, &FieldError{"address", fmt.Sprintf("%q is no address of this machine: use one as in 192.0.2.7:21 or [2001:db8::7]:21, or :21 for all of them", host)}
	}
	return port, nil
}

func splitAddress(text string) (host string, port int, err error) {
	at := strings.LastIndexByte(text, ':')
	if at >= 0 {
		port, err = strconv.Atoi(text[at+1:])
	}
	if at < 0 || err != nil || port < 0 || port > 65535 {
		return "", 0, &FieldError{"address", fmt.Sprintf("%q is no address with a port: use 192.0.2.7:21, [2001:db8::7]:21 or :21", text)}
	}
	return strings.Trim(text[:at], "[]"), port, nil
}

func (l *Listener) checkEncryption() error {
	switch l.Encryption {
	case EncryptionRequired:
	case EncryptionOptional, EncryptionOff:
		if l.Protocol == Web && l.Encryption == EncryptionOff {
			break
		}
		if l.Protocol == Web {
			return &FieldError{"encryption", "a web listener speaks TLS (required) or does not (off): make two of them"}
		}
		if l.Protocol != FTP {
			return &FieldError{"encryption", fmt.Sprintf("%s is encrypted always: only required is possible", l.Protocol)}
		}
	default:
		return &FieldError{"encryption", fmt.Sprintf("%q is not known: use required, optional or off", l.Encryption)}
	}
	if l.Encryption == EncryptionOff && (l.ResumeData || l.ClientCertificates) {
		return &FieldError{"encryption", "without TLS there are no sessions to resume and no client certificates: turn those off too"}
	}
	return nil
}

func (l *Listener) checkNotFTP() error {
	if l.PassiveLow != 0 || l.PassiveHigh != 0 || l.Advertise != "" || l.NoActive || l.ResumeData || l.ClientCertificates || l.Welcome != "" {
		return &FieldError{"protocol", fmt.Sprintf("a listener for %s has one connection for everything: passive ports, the advertised address, active mode, resumed data, client certificates and a welcome are for FTP", l.Protocol)}
	}
	if l.Protocol == SFTP && l.Certificate != "" {
		return &FieldError{"certificate", "SFTP has host keys: a certificate is for FTP and web listeners"}
	}
	return nil
}

func (l *Listener) checkPassive() error {
	if l.PassiveLow < 1 || l.PassiveHigh > 65535 || l.PassiveLow > l.PassiveHigh {
		return &FieldError{"passive", fmt.Sprintf("%d-%d is no range of ports: use LOW-HIGH, as in 47000-47099", l.PassiveLow, l.PassiveHigh)}
	}
	if l.Advertise != "" && !plausibleHost(l.Advertise) {
		return &FieldError{"advertise", fmt.Sprintf("%q is neither an IPv4 address nor a host name", l.Advertise)}
	}
	return nil
}

// plausibleHost takes an IPv4 address (PASV can tell no other) or a host name.
func plausibleHost(text string) bool {
	if address, err := netip.ParseAddr(text); err == nil {
		return address.Is4()
	}
	return len(text) <= 253 && !strings.HasPrefix(text, "-") && !strings.ContainsFunc(text, func(r rune) bool {
		return r != '-' && r != '.' && (r >= unicode.MaxASCII || !unicode.IsLetter(r) && !unicode.IsDigit(r))
	})
}

// CheckBeside reports what one listener takes away from another that is not stopped.
func (l *Listener) CheckBeside(other Listener) error {
	if l.Stopped || other.Stopped || l.Name == other.Name {
		return nil
	}
	port, _ := l.Port()
	otherPort, _ := other.Port()
	switch {
	case l.PassiveLow <= other.PassiveHigh && other.PassiveLow <= l.PassiveHigh && l.PassiveLow > 0 && other.PassiveLow > 0:
		return &FieldError{"passive", fmt.Sprintf("the passive ports %d-%d overlap with those of the listener %s, %d-%d: give each its own", l.PassiveLow, l.PassiveHigh, other.Name, other.PassiveLow, other.PassiveHigh)}
	case port != 0 && port >= other.PassiveLow && port <= other.PassiveHigh:
		return &FieldError{"address", fmt.Sprintf("port %d is one of the passive ports of the listener %s, %d-%d: choose another", port, other.Name, other.PassiveLow, other.PassiveHigh)}
	case otherPort != 0 && otherPort >= l.PassiveLow && otherPort <= l.PassiveHigh:
		return &FieldError{"passive", fmt.Sprintf("port %d of the listener %s is one of these passive ports, %d-%d: choose others", otherPort, other.Name, l.PassiveLow, l.PassiveHigh)}
	}
	return nil
}

// Admits reports whether an IP address may connect.
func (l *Listener) Admits(address string) bool {
	return Rules{l.Allow, l.Deny}.Admit(address)
}

// WelcomeFor is the welcome for one account at a time.
func (l *Listener) WelcomeFor(account string, now time.Time) string {
	return strings.NewReplacer("{account}", account, "{time}", now.UTC().Format("2006-01-02 15:04 MST")).Replace(l.Welcome)
}

// Introduction is what a client on this machine has to send first where its address is a
// proxy's: that it comes for itself (PROXY protocol, version 1). "": nothing.
func (l *Listener) Introduction(from fmt.Stringer) string {
	at, err := netip.ParseAddrPort(from.String())
	if err != nil || l.Forwarded != "" || !l.Proxies.Has(at.Addr().String()) {
		return ""
	}
	return "PROXY UNKNOWN\r\n"
}
