package signin

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"urbankeep/internal/keep"
)

const (
	// maxPasskeys bounds those of one operator.
	maxPasskeys = 20
	// maxLabel bounds a label, bytes.
	maxLabel = 100
)

// Site is where a browser has the console: passkeys work under one name only.
type Site struct {
	Name   string // of the service
	Origin string // as in https://keep.example:8470
	Host   string // keep.example
}

// ceremony is a question to a browser that it has not answered (WebAuthn, section 7).
type ceremony struct {
	session webauthn.SessionData
	who     string // who registers a passkey; "": somebody signs in
	begun   time.Time
}

// answerFor is how long a browser may take to answer.
const answerFor = 5 * time.Minute

// keyHolder is who has passkeys, as the library wants it.
type keyHolder struct {
	handle string
	name   string
	keys   []keep.Passkey
}

func (h keyHolder) WebAuthnID() []byte          { return []byte(h.handle) }
func (h keyHolder) WebAuthnName() string        { return h.name }
func (h keyHolder) WebAuthnDisplayName() string { return h.name }

func (h keyHolder) WebAuthnCredentials() []webauthn.Credential {
	var found []webauthn.Credential
	for _, key := range h.keys {
		var c webauthn.Credential
		if json.Unmarshal(key.Credential, &c) == nil {
			found = append(found, c)
		}
	}
	return found
}

// ceremonies are those that browsers have not answered. The zero value is ready.
type ceremonies struct{ waiting[ceremony] }

// answered takes a ceremony that a browser answers: each is answered once.
func (c *ceremonies) answered(id, who string) (ceremony, error) {
	one, ok := c.take(id, func(one ceremony) bool { return one.who == who })
	if !ok || time.Since(one.begun) > answerFor {
		return one, errOver
	}
	return one, nil
}

// register begins to register a passkey; the options are for the browser (navigator.credentials.create).
func (c *ceremonies) register(v Visitor, at Site, h keyHolder) (id string, options any, err error) {
	party, err := at.party()
	if err != nil {
		return "", nil, err
	}
	if len(h.keys) >= maxPasskeys {
		return "", nil, keep.Refuse(keep.BadRequest, fmt.Sprintf("you have as many passkeys as you may have, %d: remove one first", maxPasskeys))
	}
	creation, session, err := party.BeginRegistration(h, webauthn.WithResidentKeyRequirement(protocol.ResidentKeyRequirementRequired),
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, RequireResidentKey: protocol.ResidentKeyRequired(), UserVerification: protocol.VerificationRequired}),
		webauthn.WithExclusions(webauthn.Credentials(h.WebAuthnCredentials()).CredentialDescriptors()))
	if err != nil {
		return "", nil, err
	}
	return c.add(v, rand.Text(), ceremony{*session, h.name, time.Now()}), creation.Response, nil
}

// registered is the passkey that a browser has made.
func (c *ceremonies) registered(at Site, h keyHolder, id, label string, response []byte) (keep.Passkey, error) {
	label = strings.TrimSpace(label)
	if label == "" || len(label) > maxLabel || strings.ContainsFunc(label, func(r rune) bool { return r < ' ' }) {
		return keep.Passkey{}, &keep.FieldError{Field: "label", Say: "give it a name by which you know the device, on one line"}
	}
	one, err := c.answered(id, h.name)
	if err != nil {
		return keep.Passkey{}, err
	}
	party, err := at.party()
	if err != nil {
		return keep.Passkey{}, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(response)
	var made *webauthn.Credential
	if err == nil {
		made, err = party.CreateCredential(h, one.session, parsed)
	}
	if err != nil {
		return keep.Passkey{}, &keep.FieldError{Field: "response", Say: "the browser's answer is not what was asked for: begin again"}
	}
	text, err := json.Marshal(made)
	return keep.Passkey{ID: rand.Text(), Label: label, Host: at.Host, Credential: text, Created: time.Now()}, err
}

// challenge begins a sign-in by passkey; the options are for the browser (navigator.credentials.get).
func (c *ceremonies) challenge(v Visitor, at Site) (id string, options any, err error) {
	party, err := at.party()
	if err != nil {
		return "", nil, err
	}
	assertion, session, err := party.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return "", nil, err
	}
	return c.add(v, rand.Text(), ceremony{*session, "", time.Now()}), assertion.Response, nil
}

var errPasskey = keep.Refuse(keep.BadCredentials, "the passkey is not known here: sign in with your password, and add it anew")

// proved is the passkey that a browser has shown to have, as it is now; find tells of the holder by what stands behind the
// prefix of the handle. What the browser sent wrong is [errPasskey].
func (c *ceremonies) proved(at Site, prefix, id string, response []byte, find func(number int64) (keyHolder, error)) (keep.Passkey, error) {
	one, err := c.answered(id, "")
	if err != nil {
		return keep.Passkey{}, err
	}
	party, err := at.party()
	if err != nil {
		return keep.Passkey{}, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(response)
	if err != nil {
		return keep.Passkey{}, errPasskey
	}
	var who keyHolder
	used, err := party.ValidateDiscoverableLogin(func(_, handle []byte) (webauthn.User, error) {
		text, mine := strings.CutPrefix(string(handle), prefix)
		number, err := strconv.ParseInt(text, 10, 64)
		if err != nil || !mine {
			return nil, errPasskey
		}
		who, err = find(number)
		return who, err
	}, one.session, parsed)
	if err != nil || used.Authenticator.CloneWarning {
		return keep.Passkey{}, errPasskey
	}
	for _, key := range who.keys {
		var known webauthn.Credential
		if json.Unmarshal(key.Credential, &known) == nil && string(known.ID) == string(used.ID) {
			key.Credential, err = json.Marshal(used)
			return key, err
		}
	}
	return keep.Passkey{}, errPasskey
}

func (s Site) party() (*webauthn.WebAuthn, error) {
	if _, err := netip.ParseAddr(s.Host); err == nil || s.Host == "" {
		return nil, keep.Refuse(keep.BadRequest, "passkeys work under a name, not under an address: open the console by its host name, or by http://localhost on this machine")
	}
	party, err := webauthn.New(&webauthn.Config{RPID: s.Host, RPDisplayName: s.Name, RPOrigins: []string{s.Origin}})
	if err != nil {
		return nil, keep.Refuse(keep.BadRequest, "passkeys don't work under the name "+s.Host)
	}
	return party, nil
}
