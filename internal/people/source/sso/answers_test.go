package sso

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"encoding/xml"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/crewjam/saml"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

// Whatever comes in the place of a provider's answer lets nobody in, and is refused soon.
func FuzzAnswersOfProviders(f *testing.F) {
	key, err := NewKey("tower")
	require.NoError(f, err)
	block, _ := pem.Decode([]byte(key.Reveal()))
	certificate, err := x509.ParseCertificate(block.Bytes)
	require.NoError(f, err)
	at, err := url.Parse("https://id.selwyn.example/sso")
	require.NoError(f, err)
	about, err := xml.Marshal((&saml.IdentityProvider{Certificate: certificate, MetadataURL: *at, SSOURL: *at}).Metadata())
	require.NoError(f, err)
	way, err := openSAML(&keep.Source{Name: "tower", Kind: keep.SSOKind, Standard: keep.SAML, Servers: []string{"https://id.selwyn.example/metadata"}, Metadata: string(about), Secret: key}, http.DefaultClient)
	require.NoError(f, err)
	now := time.Now().UTC().Format(time.RFC3339)
	for _, text := range []string{"", "<x/>", `<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="r" InResponseTo="id-1" Version="2.0" IssueInstant="` + now + `" Destination="https://keep.selwyn.example/sso/back"><saml:Issuer>https://id.selwyn.example/sso</saml:Issuer><samlp:Status><samlp:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:Success"/></samlp:Status><saml:Assertion ID="a" Version="2.0" IssueInstant="` + now + `"><saml:Issuer>https://id.selwyn.example/sso</saml:Issuer><ds:Signature xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/><ds:SignatureMethod Algorithm="http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"/><ds:Reference URI="#a"><ds:Transforms><ds:Transform Algorithm="http://www.w3.org/2000/09/xmldsig#enveloped-signature"/></ds:Transforms><ds:DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/><ds:DigestValue>AAAA</ds:DigestValue></ds:Reference></ds:SignedInfo><ds:SignatureValue>AAAA</ds:SignatureValue></ds:Signature><saml:Subject><saml:NameID>root</saml:NameID></saml:Subject></saml:Assertion></samlp:Response>`,
		`<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol"><EncryptedAssertion xmlns="urn:oasis:names:tc:SAML:2.0:assertion"><EncryptedData xmlns="http://www.w3.org/2001/04/xmlenc#"><EncryptionMethod Algorithm="http://www.w3.org/2001/04/xmlenc#aes128-cbc"/><CipherData><CipherValue>AAAA</CipherValue></CipherData></EncryptedData></EncryptedAssertion></samlp:Response>`} {
		f.Add([]byte(text))
	}
	provider := &Provider{set: *way.set, speaks: way}
	f.Fuzz(func(t *testing.T, text []byte) {
		begun := time.Now()
		who, err := provider.End(t.Context(), source.Journey{Origin: "https://keep.selwyn.example", State: "s", Request: "id-1"}, url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString(text)}})
		if err == nil || who != nil {
			t.Fatalf("let in %v", who)
		}
		if took := time.Since(begun); took > 5*time.Second {
			t.Fatalf("took %v", took)
		}
	})
}
