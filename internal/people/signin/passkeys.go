package signin

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

const (
	// maxPasskeys bounds those of one operator.
	maxPasskeys = 20
	// ceremonyLife is how long a browser may take to answer.
	ceremonyLife = 5 * time.Minute
	// maxCeremonies and maxCeremoniesPerNetwork bound those that browsers have not answered.
	maxCeremonies, maxCeremoniesPerNetwork = 1000, 20
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
	session  webauthn.SessionData
	operator string // who registers a passkey; "": somebody signs in
	network  string
	begun    time.Time
}

// holder is an operator as the library wants it.
type holder struct {
	operator *keep.Operator
	keys     []keep.Passkey
}

const handlePrefix = "operator-"

func (h holder) WebAuthnID() []byte {
	return []byte(handlePrefix + strconv.FormatInt(h.operator.ID, 10))
}
func (h holder) WebAuthnName() string        { return h.operator.Name }
func (h holder) WebAuthnDisplayName() string { return h.operator.Name }

func (h holder) WebAuthnCredentials() []webauthn.Credential {
	var found []webauthn.Credential
	for _, key := range h.keys {
		var c webauthn.Credential
		if json.Unmarshal(key.Credential, &c) == nil {
			found = append(found, c)
		}
	}
	return found
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

// ask remembers a ceremony and gives its number.
func (o *Operators) ask(c ceremony) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.ceremonies == nil {
		o.ceremonies = map[string]ceremony{}
	}
	var oldest, oldestHere string
	here := 0
	for id, one := range o.ceremonies {
		if time.Since(one.begun) > ceremonyLife {
			delete(o.ceremonies, id)
			continue
		}
		if oldest == "" || one.begun.Before(o.ceremonies[oldest].begun) {
			oldest = id
		}
		if one.network == c.network {
			here++
			if oldestHere == "" || one.begun.Before(o.ceremonies[oldestHere].begun) {
				oldestHere = id
			}
		}
	}
	switch {
	case here >= maxCeremoniesPerNetwork:
		delete(o.ceremonies, oldestHere)
	case len(o.ceremonies) >= maxCeremonies:
		delete(o.ceremonies, oldest)
	}
	id := rand.Text()
	o.ceremonies[id] = c
	return id
}

// answered takes a ceremony that a browser answers: each is answered once.
func (o *Operators) answered(id, operator string) (ceremony, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	c, ok := o.ceremonies[id]
	if !ok || c.operator != operator || time.Since(c.begun) > ceremonyLife {
		return c, keep.Refuse(keep.BadRequest, "that took too long, or was answered already: begin again")
	}
	delete(o.ceremonies, id)
	return c, nil
}

func (o *Operators) holderOf(ctx context.Context, name string) (holder, error) {
	operator, err := o.find(ctx, name)
	if err != nil {
		return holder{}, err
	}
	keys, err := o.DB.Passkeys(ctx, operator.ID)
	return holder{operator, keys}, err
}

// Passkeys are those of an operator.
func (o *Operators) Passkeys(ctx context.Context, name string) ([]keep.Passkey, error) {
	h, err := o.holderOf(ctx, name)
	return h.keys, err
}

// NewPasskey begins to register a passkey; the options are for the browser
// (navigator.credentials.create).
func (o *Operators) NewPasskey(ctx context.Context, v Visitor, at Site, name string) (id string, options any, err error) {
	party, err := at.party()
	if err != nil {
		return "", nil, err
	}
	h, err := o.holderOf(ctx, name)
	if err != nil {
		return "", nil, err
	}
	if len(h.keys) >= maxPasskeys {
		return "", nil, keep.Refuse(keep.BadRequest, "you have as many passkeys as an operator may have: remove one first")
	}
	creation, session, err := party.BeginRegistration(h, webauthn.WithResidentKeyRequirement(protocol.ResidentKeyRequirementRequired),
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, RequireResidentKey: protocol.ResidentKeyRequired(), UserVerification: protocol.VerificationRequired}),
		webauthn.WithExclusions(webauthn.Credentials(h.WebAuthnCredentials()).CredentialDescriptors()))
	if err != nil {
		return "", nil, err
	}
	return o.ask(ceremony{*session, name, network(v.Address), time.Now()}), creation.Response, nil
}

// AddPasskey keeps the passkey that a browser has made.
func (o *Operators) AddPasskey(ctx context.Context, v Visitor, at Site, name, id, label string, response []byte) error {
	label = strings.TrimSpace(label)
	if label == "" || len(label) > maxLabel || strings.ContainsFunc(label, func(r rune) bool { return r < ' ' }) {
		return &keep.FieldError{Field: "label", Say: "give it a name by which you know the device, on one line"}
	}
	c, err := o.answered(id, name)
	if err != nil {
		return err
	}
	party, err := at.party()
	if err != nil {
		return err
	}
	h, err := o.holderOf(ctx, name)
	if err != nil {
		return err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(response)
	var made *webauthn.Credential
	if err == nil {
		made, err = party.CreateCredential(h, c.session, parsed)
	}
	if err != nil {
		return &keep.FieldError{Field: "response", Say: "the browser's answer is not what was asked for: begin again"}
	}
	text, err := json.Marshal(made)
	if err != nil {
		return err
	}
	r := v.record("", keep.OperatorSet)
	r.Operator, r.Target, r.Outcome, r.Detail = name, name, keep.Done, "passkey added: "+label
	return o.Trail.Change(ctx, r, func(ctx context.Context) error {
		return o.DB.AddPasskey(ctx, h.operator.ID, keep.Passkey{ID: rand.Text(), Label: label, Host: at.Host, Credential: text, Created: time.Now()})
	})
}

// DropPasskey removes a passkey of an operator's, at its own wish.
func (o *Operators) DropPasskey(ctx context.Context, v Visitor, name, id string) error {
	h, err := o.holderOf(ctx, name)
	if err != nil {
		return err
	}
	for _, key := range h.keys {
		if key.ID == id {
			r := v.record("", keep.OperatorSet)
			r.Operator, r.Target, r.Outcome, r.Detail = name, name, keep.Done, "passkey removed: "+key.Label
			return o.Trail.Change(ctx, r, func(ctx context.Context) error { return o.DB.DropPasskeys(ctx, h.operator.ID, id) })
		}
	}
	return keep.Refuse(keep.NotFound, "you have no such passkey")
}

// AskPasskey begins a sign-in by passkey; the options are for the browser
// (navigator.credentials.get).
func (o *Operators) AskPasskey(v Visitor, at Site) (id string, options any, err error) {
	party, err := at.party()
	if err != nil {
		return "", nil, err
	}
	assertion, session, err := party.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return "", nil, err
	}
	return o.ask(ceremony{*session, "", network(v.Address), time.Now()}), assertion.Response, nil
}

var errPasskey = keep.Refuse(keep.BadCredentials, "the passkey is not known here: sign in with your password, and add it anew")

// SignInByPasskey proves an operator by a passkey: what the operator has, and what unlocks it. So
// neither a password nor a code is asked for.
func (o *Operators) SignInByPasskey(ctx context.Context, v Visitor, at Site, id string, response []byte) (*keep.Operator, keep.Secret, error) {
	started := time.Now()
	r := v.record("", keep.OperatorSignIn)
	refuse := func(why *keep.Fault) (*keep.Operator, keep.Secret, error) {
		r.Outcome, r.Reason, r.Duration = keep.Refused, why.Reason, time.Since(started)
		o.Repeats.Refused(r)
		return nil, "", why
	}
	if !o.allowed(v.Address) {
		return refuse(errTooMany)
	}
	c, err := o.answered(id, "")
	if err != nil {
		return nil, "", err
	}
	party, err := at.party()
	if err != nil {
		return nil, "", err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(response)
	if err != nil {
		return refuse(errPasskey)
	}
	var who holder
	used, err := party.ValidateDiscoverableLogin(func(_, handle []byte) (webauthn.User, error) {
		number, err := strconv.ParseInt(strings.TrimPrefix(string(handle), handlePrefix), 10, 64)
		if err != nil {
			return nil, err
		}
		operator, err := o.DB.OperatorByID(ctx, number)
		if err != nil {
			return nil, err
		}
		keys, err := o.DB.Passkeys(ctx, operator.ID)
		who = holder{operator, keys}
		return who, err
	}, c.session, parsed)
	if who.operator != nil {
		r.Operator = who.operator.Name
	}
	if err != nil || used.Authenticator.CloneWarning {
		return refuse(errPasskey)
	}
	text, err := json.Marshal(used)
	if err != nil {
		return nil, "", err
	}
	for _, key := range who.keys {
		var known webauthn.Credential
		if json.Unmarshal(key.Credential, &known) == nil && string(known.ID) == string(used.ID) {
			r.Detail = "with the passkey " + key.Label
			if err := o.DB.NotePasskey(ctx, key.ID, text, started); errors.Is(err, records.ErrNotFound) {
				return refuse(errPasskey)
			} else if err != nil {
				return nil, "", err
			}
		}
	}
	return o.welcome(ctx, v, r, who.operator, started)
}
