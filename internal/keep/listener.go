package keep

import "fmt"

// Listener is one address on which one protocol is served.
type Listener struct {
	Name        string     `json:"name"`
	Protocol    Protocol   `json:"protocol"`
	Address     string     `json:"address"` // host:port
	Encryption  Encryption `json:"encryption"`
	PassiveLow  int        `json:"passiveLow"`  // first passive port, FTP only
	PassiveHigh int        `json:"passiveHigh"` // last passive port, FTP only
	Banner      string     `json:"banner"`
}

// Protocol is what a listener speaks.
type Protocol string

// The protocols.
const (
	FTP     Protocol = "ftp"  // with TLS on request (RFC 4217)
	FTPS    Protocol = "ftps" // TLS from the first byte
	SFTP    Protocol = "sftp"
	Console Protocol = "console" // operators, over HTTP
	Local   Protocol = "local"   // operators, over the control socket
)

// Encryption is what an FTP listener asks of its clients.
type Encryption string

// The encryption policies.
const (
	EncryptionRequired Encryption = "required"
	EncryptionOptional Encryption = "optional"
	EncryptionOff      Encryption = "off"
)

// Store is a place where bytes live: a folder on disk.
type Store struct {
	Name   string
	Folder string // absolute path on this machine; never shown to a client
}

// MaxBanner bounds a banner, bytes: SSH clients take no more than a screen of it.
const MaxBanner = 1000

// Check reports what is wrong with the listener as a [*FieldError].
func (l *Listener) Check() error {
	switch l.Encryption {
	case EncryptionRequired:
	case EncryptionOptional, EncryptionOff:
		if l.Protocol != FTP {
			return &FieldError{"encryption", fmt.Sprintf("%s is encrypted always: only required is possible", l.Protocol)}
		}
	default:
		return &FieldError{"encryption", fmt.Sprintf("%q is not known: use required, optional or off", l.Encryption)}
	}
	if len(l.Banner) > MaxBanner {
		return &FieldError{"banner", fmt.Sprintf("it is longer than %d bytes", MaxBanner)}
	}
	for _, r := range l.Banner {
		if r < ' ' && r != '\n' {
			return &FieldError{"banner", "it holds control characters other than line breaks"}
		}
	}
	return nil
}
