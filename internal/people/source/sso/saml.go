package sso

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"
	"github.com/crewjam/saml"
	"github.com/crewjam/saml/samlsp"
	dsig "github.com/russellhaering/goxmldsig"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

// samlWay speaks SAML 2.0.
type samlWay struct {
	set         *keep.Source
	client      *http.Client
	key         *rsa.PrivateKey
	certificate *x509.Certificate
	known       remembered[*saml.EntityDescriptor]
}

// samlBounds bound what a browser brings: signing what is deep, or has many namespaces, takes long.
var samlBounds = keep.XMLBounds{Bytes: keep.MaxSAML, Depth: 32, Elements: 10_000, Attributes: 40, Namespaces: 64}

// clockSkew is how far the provider's clock may be off, freshFor how old an answer may be.
const clockSkew, freshFor = 2 * time.Minute, 5 * time.Minute

func init() { saml.MaxClockSkew, saml.MaxIssueDelay = clockSkew, freshFor } // it has no other way to be told

func openSAML(s *keep.Source, client *http.Client) (*samlWay, error) {
	w := &samlWay{set: s, client: client}
	for rest := []byte(s.Secret.Reveal()); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		var err error
		switch block.Type {
		case "CERTIFICATE":
			w.certificate, err = x509.ParseCertificate(block.Bytes)
		case "PRIVATE KEY":
			var key any
			if key, err = x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
				w.key, _ = key.(*rsa.PrivateKey)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("the key of the source %s can't be read: %w", s.Name, err)
		}
	}
	if w.key == nil || w.certificate == nil {
		return nil, fmt.Errorf("the source %s has no key", s.Name)
	}
	return w, nil
}

// keyLife is how long the certificate of a source's key holds. Providers look at the key and not at this.
const keyLife = 20 * 365 * 24 * time.Hour

// metadataBounds bound what a provider says of itself, alone or in a federation of many.
var metadataBounds = keep.XMLBounds{Bytes: 16 << 20, Depth: 40, Elements: 500_000, Attributes: 60, Namespaces: 200}

// NewKey makes what the service signs its requests with and reads encrypted assertions by, with a certificate (PEM).
func NewKey(name string) (keep.Secret, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return "", err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return "", err
	}
	now := time.Now()
	about := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Urban Keep, source " + name}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(keyLife),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment}
	certificate, err := x509.CreateCertificate(rand.Reader, about, about, key.Public(), key)
	if err != nil {
		return "", err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	return keep.Secret(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate})) + keep.Secret(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret})), nil
}

func (w *samlWay) metadata(ctx context.Context) (*saml.EntityDescriptor, error) {
	return w.known.get(func() (*saml.EntityDescriptor, error) { return w.read(ctx) })
}

// read reads the provider's metadata (SAML Metadata 2.0, section 2.4.3).
func (w *samlWay) read(ctx context.Context) (*saml.EntityDescriptor, error) {
	text := []byte(w.set.Metadata)
	if len(text) == 0 {
		var err error
		if text, err = w.fetch(ctx, w.set.Servers[0]); err != nil {
			return nil, away(ctx, "its metadata can't be read", err)
		}
	}
	return ParseMetadata(w.set, text)
}

// ParseMetadata reads the metadata of a provider; an [*source.Away] where it can't be used.
func ParseMetadata(s *keep.Source, text []byte) (*saml.EntityDescriptor, error) {
	refuse := func(say string, about ...any) (*saml.EntityDescriptor, error) {
		return nil, &source.Away{Cause: fmt.Errorf(say, about...)}
	}
	if err := keep.CheckXML(text, metadataBounds); err != nil {
		return refuse("its metadata can't be read: %w", err)
	}
	found, err := samlsp.ParseMetadata(text)
	switch {
	case err != nil:
		return refuse("its metadata is no SAML metadata: %w", err)
	case len(found.IDPSSODescriptors) == 0:
		return refuse("its metadata is not that of a provider: it has no IDPSSODescriptor")
	case !found.ValidUntil.IsZero() && time.Now().After(found.ValidUntil):
		return refuse("its metadata ended at %s: give newer", found.ValidUntil.UTC().Format(time.RFC3339))
	}
	if at := (&saml.ServiceProvider{IDPMetadata: found}).GetSSOBindingLocation(saml.HTTPRedirectBinding); !s.Reaches(at) {
		return refuse("its metadata names no https:// address for the HTTP-Redirect binding, but %q", at)
	}
	return found, nil
}

func (w *samlWay) fetch(ctx context.Context, address string) ([]byte, error) {
	ask, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	answer, err := w.client.Do(ask)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, errors.New(answer.Status)
	}
	return io.ReadAll(answer.Body)
}

// party is the service as the standard has it.
func (w *samlWay) party(provider *saml.EntityDescriptor, origin string) (*saml.ServiceProvider, error) {
	back, err := url.Parse(origin + keep.SSOBack)
	if err != nil {
		return nil, err
	}
	return &saml.ServiceProvider{EntityID: cmp.Or(w.set.KnownAs, w.set.DescribedAt(origin)), Key: w.key, Certificate: w.certificate, AcsURL: *back, IDPMetadata: provider,
		AuthnNameIDFormat: saml.UnspecifiedNameIDFormat, SignatureMethod: dsig.RSASHA256SignatureMethod, SignatureVerifier: strong{}, ValidateAudienceRestriction: w.audience(origin)}, nil
}

// audience wants an assertion to be made for this service, and says so.
func (w *samlWay) audience(origin string) func(*saml.Assertion) error {
	return func(a *saml.Assertion) error {
		ours := cmp.Or(w.set.KnownAs, w.set.DescribedAt(origin))
		for _, r := range a.Conditions.AudienceRestrictions {
			if r.Audience.Value != ours { // each of them must hold (SAML Core 2.0, section 2.5.1.4)
				return fmt.Errorf("it was made for %.200q, and this is %s", r.Audience.Value, ours)
			}
		}
		if len(a.Conditions.AudienceRestrictions) == 0 {
			return errors.New("it does not say for whom it was made")
		}
		return nil
	}
}

// strong takes no signature that rests on SHA-1.
type strong struct{}

func (strong) VerifySignature(holds *dsig.ValidationContext, signed *etree.Element) error {
	for _, path := range []string{"./Signature/SignedInfo/SignatureMethod", "./Signature/SignedInfo/Reference/DigestMethod"} {
		for _, how := range signed.FindElements(path) {
			if strings.HasSuffix(how.SelectAttrValue("Algorithm", ""), "sha1") {
				return errors.New("it is signed with SHA-1, which anybody may forge soon: have the provider sign with SHA-256")
			}
		}
	}
	_, err := holds.Validate(signed)
	return err
}

func (w *samlWay) begin(ctx context.Context, origin string) (string, source.Journey, error) {
	provider, err := w.metadata(ctx)
	if err != nil {
		return "", source.Journey{}, err
	}
	party, err := w.party(provider, origin)
	if err != nil {
		return "", source.Journey{}, err
	}
	ask, err := party.MakeAuthenticationRequest(party.GetSSOBindingLocation(saml.HTTPRedirectBinding), saml.HTTPRedirectBinding, saml.HTTPPostBinding)
	if err != nil {
		return "", source.Journey{}, err
	}
	j := source.Journey{Origin: origin, State: rand.Text(), Request: ask.ID}
	where, err := ask.Redirect(j.State, party)
	if err != nil {
		return "", source.Journey{}, err
	}
	return where.String(), j, nil
}

// end follows SAML Profiles 2.0, section 4.1.4.3.
func (w *samlWay) end(ctx context.Context, j source.Journey, answer url.Values) (*source.Listed, error) {
	provider, err := w.metadata(ctx)
	if err != nil {
		return nil, err
	}
	text, err := base64.StdEncoding.DecodeString(answer.Get("SAMLResponse"))
	if err != nil || len(text) == 0 {
		return nil, errors.New("the answer has no SAML response")
	}
	if err := keep.CheckXML(text, samlBounds); err != nil {
		return nil, fmt.Errorf("the answer has no SAML response: %w", err)
	}
	party, err := w.party(provider, j.Origin)
	if err != nil {
		return nil, err
	}
	said, err := party.ParseXMLResponse(text, []string{j.Request}, party.AcsURL)
	if err != nil {
		var private *saml.InvalidResponseError
		if errors.As(err, &private) {
			err = private.PrivateErr
		}
		w.known.doubt() // the provider may have another key by now
		return nil, fmt.Errorf("the response does not hold: %w", err)
	}
	if err := cmp.Or(bearer(said, j.Request), inTime(said)); err != nil {
		return nil, err
	}
	all := claims{}
	for _, statement := range said.AttributeStatements {
		for _, attribute := range statement.Attributes {
			for _, value := range attribute.Values {
				all.add(attribute.Name, value.Value)
			}
		}
	}
	who, err := w.subject(said, all)
	if err == nil {
		who.Until = until(said)
	}
	return who, err
}

// until is when a sign-in has to end (SAML Core 2.0, section 2.7.2); zero where it may last.
func until(said *saml.Assertion) (first time.Time) {
	for _, statement := range said.AuthnStatements {
		if end := statement.SessionNotOnOrAfter; end != nil && (first.IsZero() || end.Before(first)) {
			first = *end
		}
	}
	return first
}

// subject is who an assertion is about.
func (w *samlWay) subject(said *saml.Assertion, all claims) (*source.Listed, error) {
	name, err := all.one(w.set.NameAttribute)
	if err != nil {
		return nil, err
	}
	id, format := "", ""
	if said.Subject.NameID != nil {
		id, format = said.Subject.NameID.Value, said.Subject.NameID.Format
	}
	if w.set.NameAttribute == "" {
		if format == string(saml.TransientNameIDFormat) {
			return nil, errors.New("it gives people another name each time: say which attribute has their names")
		}
		name = id
	}
	if format != string(saml.PersistentNameIDFormat) {
		id = name
	}
	if id != "" {
		id = said.Issuer.Value + " " + id
	}
	return all.person(w.set, id, name)
}

// inTime wants an assertion that was made just now, and a session of the provider that still lasts (SAML Core 2.0, sections 2.3.3
// and 2.7.2).
func inTime(said *saml.Assertion) error {
	if now := time.Now(); now.Sub(said.IssueInstant) > freshFor+clockSkew || said.IssueInstant.Sub(now) > clockSkew {
		return errors.New("the assertion was not made just now: is the clock right, here and there?")
	}
	if end := until(said); !end.IsZero() && !time.Now().Before(end) {
		return errors.New("its session has ended there")
	}
	return nil
}

// bearer wants an assertion that was made for whoever brings it, in answer to the request; it must say so itself, for what is
// around it may not be signed.
func bearer(said *saml.Assertion, request string) error {
	if said.Subject == nil || !slices.ContainsFunc(said.Subject.SubjectConfirmations, func(c saml.SubjectConfirmation) bool {
		return c.Method == "urn:oasis:names:tc:SAML:2.0:cm:bearer" && c.SubjectConfirmationData != nil && c.SubjectConfirmationData.InResponseTo == request
	}) {
		return errors.New("the assertion does not say that it answers the request")
	}
	return nil
}

func (w *samlWay) describe(origin string) ([]byte, error) {
	party, err := w.party(nil, origin)
	if err != nil {
		return nil, err
	}
	about := party.Metadata()
	// What the library says besides, this service does not do.
	for i := range about.SPSSODescriptors {
		about.SPSSODescriptors[i].AssertionConsumerServices = about.SPSSODescriptors[i].AssertionConsumerServices[:1]
	}
	return xml.MarshalIndent(about, "", "  ")
}

func (w *samlWay) check(ctx context.Context) (keep.Step, error) {
	w.known.forget()
	provider, err := w.metadata(ctx)
	if err != nil {
		return keep.Step{}, err
	}
	at := (&saml.ServiceProvider{IDPMetadata: provider}).GetSSOBindingLocation(saml.HTTPRedirectBinding)
	return keep.Step{Name: "reached", OK: true, Say: fmt.Sprintf("its metadata is that of %s, and people sign in at %s", provider.EntityID, at)}, nil
}
