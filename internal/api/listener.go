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
}

// ListenerNew asks for a listener.
type ListenerNew struct {
	Name     string        `json:"name"`
	Protocol keep.Protocol `json:"protocol"`
	ListenerChange
}

// Certificate is the TLS certificate that FTP clients are shown.
type Certificate struct {
	CertificateFile string    `json:"certificateFile"`
	KeyFile         string    `json:"keyFile"`
	Own             bool      `json:"own"` // in the data folder
	SelfSigned      bool      `json:"selfSigned"`
	Names           []string  `json:"names"`
	Issuer          string    `json:"issuer"`
	Chain           int       `json:"chain"` // certificates, with the leaf
	Starts          time.Time `json:"starts"`
	Expires         time.Time `json:"expires"`
	Fingerprint     string    `json:"fingerprint"` // SHA-256
	Problem         string    `json:"problem,omitempty"`
}

// CertificateChange asks for another certificate: files to follow, a text to keep,
// or a new self-signed one.
type CertificateChange struct {
	CertificateFile string `json:"certificateFile,omitempty"`
	KeyFile         string `json:"keyFile,omitempty"` // "": in the same file
	Certificate     string `json:"certificate,omitempty"`
	Key             string `json:"key,omitempty"` // "": in the same text
	SelfSigned      bool   `json:"selfSigned,omitempty"`
}

// Lockout is a time-limited refusal of an address or of an account.
type Lockout struct {
	Address string    `json:"address,omitempty"`
	Account string    `json:"account,omitempty"`
	Expires time.Time `json:"expires"`
	Failed  int       `json:"failed"` // sign-ins that led to it
}
