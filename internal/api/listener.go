package api

import (
	"time"

	"urbankeep/internal/keep"
)

// Listener is one address on which one protocol is served.
type Listener struct {
	Name               string          `json:"name"`
	Protocol           keep.Protocol   `json:"protocol"`
	Address            string          `json:"address"`
	Listening          string          `json:"listening"`         // the address it really has, "" when it does not listen
	Problem            string          `json:"problem,omitempty"` // why it can't listen
	Stopped            bool            `json:"stopped"`
	Encryption         keep.Encryption `json:"encryption"`
	Banner             string          `json:"banner"`
	Welcome            string          `json:"welcome"`
	Allow              []string        `json:"allow"`
	Deny               []string        `json:"deny"`
	PassiveLow         int             `json:"passiveLow,omitempty"`
	PassiveHigh        int             `json:"passiveHigh,omitempty"`
	PassiveTaken       int             `json:"passiveTaken"`   // ports in use now
	PassiveRefused     int             `json:"passiveRefused"` // how often there was none left
	Advertise          string          `json:"advertise"`
	Active             bool            `json:"active"`
	ResumeData         bool            `json:"resumeData"`
	ClientCertificates bool            `json:"clientCertificates"`
	Proxies            []string        `json:"proxies"`
	Certificate        string          `json:"certificate"` // its name, "": by the name that clients ask for
	Faces              []keep.Face     `json:"faces"`
	Hosts              []string        `json:"hosts"`
	Redirect           string          `json:"redirect"`
	Forwarded          keep.Forwarding `json:"forwarded"`
}

// ListenerChange asks for changes; fields that are not there stay as they are, or
// get the usual value in a new listener.
type ListenerChange struct {
	Address            *string          `json:"address,omitempty"`
	Stopped            *bool            `json:"stopped,omitempty"`
	Encryption         *keep.Encryption `json:"encryption,omitempty"`
	Banner             *string          `json:"banner,omitempty"`
	Welcome            *string          `json:"welcome,omitempty"`
	Allow              *[]string        `json:"allow,omitempty"`
	Deny               *[]string        `json:"deny,omitempty"`
	PassiveLow         *int             `json:"passiveLow,omitempty"`
	PassiveHigh        *int             `json:"passiveHigh,omitempty"`
	Advertise          *string          `json:"advertise,omitempty"`
	Active             *bool            `json:"active,omitempty"`
	ResumeData         *bool            `json:"resumeData,omitempty"`
	ClientCertificates *bool            `json:"clientCertificates,omitempty"`
	Proxies            *[]string        `json:"proxies,omitempty"`
	Certificate        *string          `json:"certificate,omitempty"`
	Faces              *[]keep.Face     `json:"faces,omitempty"`
	Hosts              *[]string        `json:"hosts,omitempty"`
	Redirect           *string          `json:"redirect,omitempty"`
	Forwarded          *keep.Forwarding `json:"forwarded,omitempty"`
	Meant              bool             `json:"meant,omitempty"` // asked for although it shuts out who asks, or lets passwords go in clear
}

// ListenerNew asks for a listener.
type ListenerNew struct {
	Name     string        `json:"name"`
	Protocol keep.Protocol `json:"protocol"`
	ListenerChange
}

// Certificate is a TLS certificate that clients are shown.
type Certificate struct {
	Name            string     `json:"name"`
	CertificateFile string     `json:"certificateFile"`
	KeyFile         string     `json:"keyFile"`
	Own             bool       `json:"own"` // in the data folder
	SelfSigned      bool       `json:"selfSigned"`
	Names           []string   `json:"names"`
	Issuer          string     `json:"issuer"`
	Chain           int        `json:"chain"` // certificates, with the leaf
	Starts          time.Time  `json:"starts"`
	Expires         time.Time  `json:"expires"`
	Fingerprint     string     `json:"fingerprint"` // SHA-256
	Problem         string     `json:"problem,omitempty"`
	ACME            *Order     `json:"acme,omitempty"`   // how it is got from an authority
	Renews          *time.Time `json:"renews,omitempty"` // when it is got anew
	Failed          int        `json:"failed,omitempty"` // renewals that failed, one after the other
	Failure         string     `json:"failure,omitempty"`
}

// Order is how a certificate is got from an authority (ACME, RFC 8555).
type Order struct {
	Hosts      []string `json:"hosts"`
	Contact    string   `json:"contact,omitempty"`
	Directory  string   `json:"directory,omitempty"` // "": the usual one
	Trust      string   `json:"trust,omitempty"`     // PEM of who vouches for the directory; asked for only
	KeyID      string   `json:"keyID,omitempty"`     // external account binding
	MAC        string   `json:"mac,omitempty"`       // asked for only
	Account    string   `json:"account,omitempty"`   // shown only
	NewAccount bool     `json:"newAccount,omitempty"`
}

// CertificateChange asks for another certificate: files to follow, a text to keep,
// or a new self-signed one.
type CertificateChange struct {
	CertificateFile string `json:"certificateFile,omitempty"`
	KeyFile         string `json:"keyFile,omitempty"` // "": in the same file
	Certificate     string `json:"certificate,omitempty"`
	Key             string `json:"key,omitempty"` // "": in the same text
	SelfSigned      bool   `json:"selfSigned,omitempty"`
	ACME            *Order `json:"acme,omitempty"`
}

// Lockout is a time-limited refusal of an address or of an account.
type Lockout struct {
	Address string    `json:"address,omitempty"`
	Account string    `json:"account,omitempty"` // or "operator NAME", "pass ID"
	Codes   bool      `json:"codes,omitempty"`   // only its second factors: with an address, those from there, else those from unfamiliar ones
	Expires time.Time `json:"expires"`
	Failed  int       `json:"failed"` // sign-ins that led to it
}
