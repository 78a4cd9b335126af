package abuse_test

import (
	"crypto/tls"
	"net"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/tests/testkit"
)

// What the real clients see of the offers: no SHA-1 anywhere, no CBC; and what is asked for
// in spite of that is refused.
func TestNothingWeakIsOffered(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	_, port, _ := net.SplitHostPort(k.Address("sftp"))
	out, _ := testkit.Run(t, "", "ssh", "-vv", "-p", port, "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile="+os.DevNull, "ann@127.0.0.1")
	_, offer, found := strings.Cut(out, "peer server KEXINIT proposal")
	require.True(t, found, out)
	offer, _, _ = strings.Cut(offer, "kex: algorithm")
	assert.Contains(t, offer, "KEX algorithms: mlkem768x25519-sha256,")
	assert.Contains(t, offer, "rsa-sha2-512")
	for _, weak := range []string{"sha1", "ssh-rsa", "ssh-dss", "cbc", "md5", "3des", "arcfour"} {
		assert.NotContains(t, offer, weak, offer)
	}
	for _, only := range []ssh.ClientConfig{
		{Config: ssh.Config{KeyExchanges: []string{ssh.InsecureKeyExchangeDH14SHA1}}}, {Config: ssh.Config{MACs: []string{ssh.HMACSHA1}, Ciphers: []string{ssh.CipherAES128CTR}}},
		{HostKeyAlgorithms: []string{ssh.KeyAlgoRSA}}, {Config: ssh.Config{Ciphers: []string{ssh.InsecureCipherAES128CBC}}},
	} {
		only.User, only.Auth, only.HostKeyCallback = "ann", []ssh.AuthMethod{ssh.Password(testkit.Password)}, ssh.InsecureIgnoreHostKey()
		_, err := ssh.Dial("tcp", k.Address("sftp"), &only)
		assert.ErrorContains(t, err, "no common algorithm", "%v", only.Config)
	}
	for _, suite := range []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA, tls.TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA, tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256, tls.TLS_RSA_WITH_AES_128_GCM_SHA256} {
		_, err := tls.Dial("tcp", k.Address("ftps"), &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS12, CipherSuites: []uint16{suite}})
		assert.Error(t, err, tls.CipherSuiteName(suite))
	}
	_, err := tls.Dial("tcp", k.Address("ftps"), &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11})
	assert.Error(t, err)
	out, _ = testkit.Run(t, "", "openssl", "s_client", "-connect", k.Address("ftps"), "-tls1_2", "-cipher", "ALL:@SECLEVEL=0")
	assert.Contains(t, out, "GCM")
	out, _ = testkit.Run(t, "", "openssl", "s_client", "-connect", k.Address("ftps"), "-tls1_2", "-cipher", "ECDHE+SHA1:@SECLEVEL=0")
	assert.Contains(t, out, "handshake failure", out)
}
