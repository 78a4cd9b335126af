package counterpart

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

const samlPages = "/usr/share/simplesamlphp/www"

const samlConfig = `<?php
$config = [
  'baseurlpath' => '%[2]s/', 'certdir' => '%[1]s/', 'loggingdir' => '%[1]s/', 'datadir' => '%[1]s/', 'tempdir' => '%[1]s/tmp', 'metadatadir' => '%[1]s/',
  'debug' => [], 'showerrors' => true, 'errorreporting' => false, 'logging.level' => 5, 'logging.handler' => 'file', 'logging.logfile' => 'log',
  'timezone' => 'UTC', 'secretsalt' => 'not-a-secret-salt', 'auth.adminpassword' => 'not-a-secret', 'admin.protectindexpage' => true,
  'technicalcontact_name' => 'nobody', 'technicalcontact_email' => 'na@example.org',
  'enable.saml20-idp' => true, 'module.enable' => ['exampleauth' => true, 'core' => true, 'saml' => true],
  'session.cookie.name' => 'ProviderSession', 'session.cookie.secure' => false, 'session.phpsession.cookiename' => 'Provider', 'session.phpsession.savepath' => '%[1]s/tmp',
  'store.type' => 'phpsession', 'language.default' => 'en', 'language.available' => ['en'], 'theme.use' => 'default',
  'metadata.sources' => [['type' => 'flatfile'], ['type' => 'xml', 'file' => '%[1]s/party.xml']],
];
`

const samlSources = `<?php
$config = ['people' => ['exampleauth:UserPass',
%s]];
`

const samlHosted = `<?php
$metadata['%[1]s'] = ['host' => '__DEFAULT__', 'privatekey' => 'key.pem', 'certificate' => 'certificate.pem', 'auth' => 'people',
  'NameIDFormat' => 'urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', 'authproc' => [3 => ['class' => 'saml:AttributeNameID', 'attribute' => 'id', 'Format' => 'urn:oasis:names:tc:SAML:2.0:nameid-format:persistent']],
  'signature.algorithm' => '%[2]s', 'saml20.sign.response' => %[3]t, 'assertion.encryption' => %[4]t, 'validate.authnrequest' => true];
`

var samlHashes = map[string]string{"sha1": "http://www.w3.org/2000/09/xmldsig#rsa-sha1", "sha256": "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256", "sha512": "http://www.w3.org/2001/04/xmldsig-more#rsa-sha512"}

// SAMLProvider says how a SAML provider does its work.
type SAMLProvider struct {
	People    map[string]map[string][]string // attributes by name; the password is the name
	Hash      string                         // sha1, sha256 or sha512
	Responses bool                           // it signs responses, not only assertions
	Encrypt   bool                           // assertions
}

// StartSAML starts a SAML provider, and gives its folder: the metadata of this service goes there, as party.xml.
func (how SAMLProvider) StartSAML(t testing.TB) (p *Provider, folder string) {
	require.DirExists(t, samlPages, "the SAML provider is not installed: scripts/install-tools")
	folder = t.TempDir()
	address := fmt.Sprintf("http://127.0.0.1:%d", testkit.FreePorts(t))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "tmp"), 0o700))
	var people strings.Builder
	for name, attributes := range how.People {
		fmt.Fprintf(&people, "  '%s:%s' => [", name, name)
		for attribute, values := range attributes {
			fmt.Fprintf(&people, "'%s' => ['%s'], ", attribute, strings.Join(values, "', '"))
		}
		people.WriteString("],\n")
	}
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	about := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "provider"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour)}
	certificate, err := x509.CreateCertificate(rand.Reader, about, about, key.Public(), key)
	require.NoError(t, err)
	for name, text := range map[string]string{
		"config.php": fmt.Sprintf(samlConfig, folder, address), "authsources.php": fmt.Sprintf(samlSources, people.String()), "acl.php": "<?php $config = [];\n",
		"saml20-idp-hosted.php": fmt.Sprintf(samlHosted, address+"/provider", samlHashes[how.Hash], how.Responses, how.Encrypt), "saml20-sp-remote.php": "<?php\n", "party.xml": `<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata"/>`,
		"certificate.pem": string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate})),
		"key.pem":         string(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(key)})),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	p = &Provider{Address: address + "/saml2/idp/metadata.php"}
	p.run = exec.Command("php", "-S", strings.TrimPrefix(address, "http://"), "-t", samlPages)
	p.run.Dir, p.run.Env = folder, append(os.Environ(), "SIMPLESAMLPHP_CONFIG_DIR="+folder)
	p.begin(t, p.Address)
	return p, folder
}
