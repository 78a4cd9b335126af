package keep

import (
	"encoding/base64"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"
)

// ReceiverKind is how somebody is told.
type ReceiverKind string

// The kinds of receivers.
const (
	WebCall     ReceiverKind = "web"
	MailMessage ReceiverKind = "mail"
)

// Header is one that a web call carries.
type Header struct {
	Name  string `json:"name"`
	Value Secret `json:"-"`
	Kept  bool   `json:"-"` // while it is changed: the value is the one that it had before
}

// SameOrigin reports whether two addresses are of one scheme, host and port: a secret that was given for one goes to no other.
func SameOrigin(a, b string) bool {
	first, err1 := url.Parse(a)
	second, err2 := url.Parse(b)
	return err1 == nil && err2 == nil && originOf(first) == originOf(second)
}

// Origin is an address without its path.
func Origin(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return ""
	}
	return u.Scheme + "://" + u.Host + "/"
}

func originOf(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"https": "443", "http": "80"}[strings.ToLower(u.Scheme)]
	}
	return strings.ToLower(u.Scheme + "://" + u.Hostname() + ":" + port)
}

// Receiver is who is told.
type Receiver struct {
	Name    string       `json:"name"`
	Account string       `json:"account,omitempty"` // whose holder it is; "": of operators
	Kind    ReceiverKind `json:"kind"`
	Note    string       `json:"note,omitempty"`
	Off     bool         `json:"off,omitempty"`     // nothing is told, and what happens meanwhile never is
	Longest Seconds      `json:"longest,omitempty"` // how old what happened may be when it is tried for the last time

	URL      string   `json:"url,omitempty"`
	Method   string   `json:"method,omitempty"`
	Headers  []Header `json:"headers,omitempty"`
	Body     string   `json:"body,omitempty"`     // a template; "": a CloudEvent
	BodyType string   `json:"bodyType,omitempty"` // the media type of that
	Trust    string   `json:"trust,omitempty"`    // certificates (PEM) that sign the receiver's; "": those of the system
	Timeout  Seconds  `json:"timeout,omitempty"`  // of one call
	Private  bool     `json:"private,omitempty"`  // it may be on this machine or in a private network
	Secret   Secret   `json:"-"`                  // signs each call; see [NewSigningSecret]

	To     []string `json:"to,omitempty"`
	Digest Seconds  `json:"digest,omitempty"` // how often there is one mail about all; 0: a mail about each
}

const (
	// UsualLongest is how long it is tried where nothing else is said.
	UsualLongest = Seconds(3 * 24 * time.Hour / time.Second)
	// UsualCallTime bounds a call where nothing else is said.
	UsualCallTime = Seconds(10)
	// MaxReceivers bounds the receivers of operators.
	MaxReceivers = 200
	maxHeaders   = 20
	maxTemplate  = 16 << 10
	// HolderReceiver begins the name of the receiver that is an account's holder.
	HolderReceiver = "~"
)

// callMethods are those with which a receiver can be called.
var callMethods = []string{"POST", "PUT", "PATCH"}

// Check reports what is wrong as a [*FieldError], and fills in what is usual.
func (r *Receiver) Check() error {
	if r.Account == "" {
		if err := CheckName("name", r.Name); err != nil {
			return err
		}
	}
	if len(r.Note) > maxNotes {
		return &FieldError{"note", fmt.Sprintf("use at most %d bytes", maxNotes)}
	}
	if r.Longest == 0 {
		r.Longest = UsualLongest
	}
	if d := r.Longest.Duration(); d < time.Minute || d > 30*24*time.Hour {
		return &FieldError{"longest", "use 1m to 30d"}
	}
	switch r.Kind {
	case WebCall:
		return r.checkCall()
	case MailMessage:
		return r.checkMail()
	}
	return &FieldError{"kind", fmt.Sprintf("%q is not known: use web or mail", r.Kind)}
}

func (r *Receiver) checkCall() error {
	if len(r.To) > 0 || r.Digest > 0 {
		return &FieldError{"to", "that is for receivers of mail"}
	}
	u, err := url.Parse(r.URL)
	switch {
	case err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Hostname() == "" || len(r.URL) > 2000 || strings.ContainsFunc(r.URL, unicode.IsControl):
		return &FieldError{"url", fmt.Sprintf("%q is no address to call: use the form https://host.example/path", r.URL)}
	case u.User != nil:
		return &FieldError{"url", "leave name and password out of the address: give them as a header, which is kept secret"}
	case u.Fragment != "":
		return &FieldError{"url", "leave out what follows the #: it would not be sent"}
	case r.Trust != "" && u.Scheme != "https":
		return &FieldError{"trust", "certificates are for https:// only"}
	}
	if r.Method == "" {
		r.Method = callMethods[0]
	}
	if !slices.Contains(callMethods, r.Method) {
		return &FieldError{"method", "use " + strings.Join(callMethods, ", ")}
	}
	if r.Timeout == 0 {
		r.Timeout = UsualCallTime
	}
	if r.Timeout < 1 || r.Timeout > 120 {
		return &FieldError{"timeout", "use 1s to 120s"}
	}
	if len(r.Headers) > maxHeaders {
		return &FieldError{"headers", fmt.Sprintf("use at most %d", maxHeaders)}
	}
	for i, h := range r.Headers {
		if err := h.check(); err != nil {
			return err
		}
		if slices.ContainsFunc(r.Headers[:i], func(o Header) bool { return strings.EqualFold(o.Name, h.Name) }) {
			return &FieldError{"headers", h.Name + " is named twice"}
		}
	}
	if len(r.Body) > maxTemplate {
		return &FieldError{"body", fmt.Sprintf("use at most %d bytes", maxTemplate)}
	}
	if r.Body != "" && r.BodyType == "" {
		r.BodyType = "application/json"
	}
	if r.Body == "" && r.BodyType != "" {
		return &FieldError{"bodyType", "that is for a body of your own"}
	}
	if strings.ContainsFunc(r.BodyType, unicode.IsControl) || len(r.BodyType) > 200 {
		return &FieldError{"bodyType", "use a media type, as in text/plain"}
	}
	if _, err := signingKey(r.Secret); r.Secret != "" && err != nil {
		return &FieldError{"secret", "use whsec_ and 24 to 64 bytes in base64 (Standard Webhooks), or have one made"}
	}
	return nil
}

// ownHeaders are those that the service itself sets.
var ownHeaders = []string{"host", "content-length", "content-type", "transfer-encoding", "connection", "te", "trailer", "upgrade", "webhook-id", "webhook-timestamp", "webhook-signature", "user-agent"}

func (h Header) check() error {
	ok := h.Name != "" && len(h.Name) <= 100
	for _, r := range h.Name {
		ok = ok && r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("-_.", r))
	}
	switch {
	case !ok:
		return &FieldError{"headers", fmt.Sprintf("%q is no name of a header: use letters, digits and hyphens", h.Name)}
	case slices.Contains(ownHeaders, strings.ToLower(h.Name)):
		return &FieldError{"headers", "the service sets " + h.Name + " itself"}
	case h.Value == "" || len(h.Value) > 4000 || strings.ContainsFunc(h.Value.Reveal(), unicode.IsControl):
		return &FieldError{"headers", "give " + h.Name + " a value of at most 4000 bytes without control characters"}
	}
	return nil
}

// maxTo bounds the addresses of one receiver of mail.
const maxTo = 50

func (r *Receiver) checkMail() error {
	switch {
	case r.URL != "" || r.Method != "" || len(r.Headers) > 0 || r.Body != "" || r.Trust != "" || r.Private:
		return &FieldError{"url", "that is for receivers of web calls"}
	case len(r.To) == 0 && r.Account == "":
		return &FieldError{"to", "say to which addresses the mail goes"}
	case len(r.To) > maxTo:
		return &FieldError{"to", fmt.Sprintf("use at most %d addresses", maxTo)}
	case r.Digest != 0 && (r.Digest.Duration() < time.Minute || r.Digest.Duration() > 7*24*time.Hour):
		return &FieldError{"digest", "use 1m to 7d, or 0 for a mail about each"}
	}
	for i, to := range r.To {
		clean, err := CheckMail("to", to)
		if err != nil {
			return err
		}
		r.To[i] = clean
	}
	return nil
}

// CheckMail gives the bare form of an e-mail address (RFC 5322, section 3.4.1).
func CheckMail(field, text string) (string, error) {
	a, err := mail.ParseAddress(text)
	if err != nil || strings.ContainsFunc(text, unicode.IsControl) || len(text) > 254 {
		return "", &FieldError{field, fmt.Sprintf("%q is no e-mail address", text)}
	}
	return a.Address, nil
}

// signingPrefix begins a signing secret (Standard Webhooks, "Signature scheme").
const signingPrefix = "whsec_"

// NewSigningSecret is a signing secret of some random bytes.
func NewSigningSecret(random []byte) Secret {
	return Secret(signingPrefix + base64.StdEncoding.EncodeToString(random))
}

func signingKey(s Secret) ([]byte, error) {
	text, is := strings.CutPrefix(s.Reveal(), signingPrefix)
	key, err := base64.StdEncoding.DecodeString(text)
	if err != nil || !is || len(key) < 24 || len(key) > 64 {
		return nil, fmt.Errorf("that is no signing secret")
	}
	return key, nil
}

// SigningKey is the key of the receiver's signing secret.
func (r *Receiver) SigningKey() []byte {
	key, _ := signingKey(r.Secret)
	return key
}

// MailSecurity is how mail is protected on its way to the mail server.
type MailSecurity string

// The ways.
const (
	MailSTARTTLS MailSecurity = "starttls" // RFC 3207; nothing is sent without it
	MailTLS      MailSecurity = "tls"      // from the first byte (RFC 8314, section 3)
	MailClear    MailSecurity = "none"
)

// MailServer is where mail is handed in. The zero value is nowhere.
type MailServer struct {
	Host     string       `json:"host"` // "": nothing can be mailed
	Port     int          `json:"port"`
	Security MailSecurity `json:"security"`
	User     string       `json:"user,omitempty"`
	Password Secret       `json:"-"`
	From     string       `json:"from"`
	Trust    string       `json:"trust,omitempty"` // certificates (PEM) that sign the server's
}

// Check reports what is wrong as a [*FieldError], and fills in what is usual.
func (m *MailServer) Check() error {
	if m.Host == "" {
		*m = MailServer{}
		return nil
	}
	if err := (&Identity{Host: m.Host}).Check(); err != nil {
		return &FieldError{"host", "use a host name or an IP address, with :PORT behind it where it is not the usual one"}
	}
	if m.Security == "" {
		m.Security = MailSTARTTLS
	}
	if m.Security != MailSTARTTLS && m.Security != MailTLS && m.Security != MailClear {
		return &FieldError{"security", "use starttls, tls or none"}
	}
	if m.Port == 0 {
		m.Port = map[MailSecurity]int{MailSTARTTLS: 587, MailTLS: 465, MailClear: 25}[m.Security]
	}
	if m.Port < 1 || m.Port > 65535 {
		return &FieldError{"port", "the port is from 1 to 65535"}
	}
	if m.Security == MailClear && m.Password != "" {
		return &FieldError{"security", "the password would go in clear: use starttls or tls"}
	}
	if m.User == "" && m.Password != "" {
		return &FieldError{"user", "say whose password that is"}
	}
	if m.From == "" {
		return &FieldError{"from", "say from which address the mail comes"}
	}
	if _, err := mail.ParseAddress(m.From); err != nil || strings.ContainsFunc(m.From, unicode.IsControl) {
		return &FieldError{"from", fmt.Sprintf("%q is no e-mail address", m.From)}
	}
	if strings.ContainsFunc(m.User+m.Password.Reveal(), unicode.IsControl) {
		return &FieldError{"user", "no control characters"}
	}
	return nil
}
