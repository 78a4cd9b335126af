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

// Clients of ten years ago find something in common, by what they offered then. The ones that
// know nothing but SHA-1 host keys or key exchanges don't (docs/clients.md).
func TestTheOffersOfTenYearsAgoStillConnect(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	key := k.Key("ann")
	for client, offer := range map[string][4]string{ // key exchanges, host keys, ciphers, MACs
		"OpenSSH 7.2 (2016)": {"curve25519-sha256@libssh.org,ecdh-sha2-nistp256,ecdh-sha2-nistp384,ecdh-sha2-nistp521,diffie-hellman-group-exchange-sha256,diffie-hellman-group14-sha1",
			"ecdsa-sha2-nistp256,ssh-ed25519,rsa-sha2-512,rsa-sha2-256,ssh-rsa", "chacha20-poly1305@openssh.com,aes128-ctr,aes192-ctr,aes256-ctr,aes128-gcm@openssh.com,aes256-gcm@openssh.com",
			"umac-64-etm@openssh.com,hmac-sha2-256-etm@openssh.com,hmac-sha1-etm@openssh.com,hmac-sha2-256,hmac-sha1"},
		"JSch 0.1.54 (2016)":   {"ecdh-sha2-nistp256,ecdh-sha2-nistp384,diffie-hellman-group14-sha1,diffie-hellman-group1-sha1", "ssh-rsa,ecdsa-sha2-nistp256", "aes128-ctr,aes128-cbc,3des-ctr,3des-cbc", "hmac-md5,hmac-sha1,hmac-sha2-256"},
		"libssh 0.7 (2015)":    {"curve25519-sha256@libssh.org,ecdh-sha2-nistp256,diffie-hellman-group14-sha1", "ssh-ed25519,ecdsa-sha2-nistp256,ssh-rsa", "aes256-ctr,aes192-ctr,aes128-ctr", "hmac-sha2-256,hmac-sha2-512,hmac-sha1"},
		"PuTTY 0.68 (2017)":    {"curve25519-sha256@libssh.org,ecdh-sha2-nistp256,diffie-hellman-group-exchange-sha256,diffie-hellman-group14-sha1", "ssh-ed25519,ecdsa-sha2-nistp256,ssh-rsa", "aes256-ctr,aes256-cbc,chacha20-poly1305@openssh.com", "hmac-sha2-256,hmac-sha1"},
		"paramiko 2.0 (2016)":  {"diffie-hellman-group-exchange-sha256,diffie-hellman-group14-sha1,ecdh-sha2-nistp256", "ecdsa-sha2-nistp256,ssh-rsa", "aes128-ctr,aes256-ctr,aes128-cbc", "hmac-sha2-256,hmac-sha2-512,hmac-sha1"},
		"an old ssh2js (2016)": {"ecdh-sha2-nistp256,ecdh-sha2-nistp384,diffie-hellman-group-exchange-sha256,diffie-hellman-group14-sha1", "ssh-rsa,ecdsa-sha2-nistp256", "aes128-ctr,aes128-gcm@openssh.com", "hmac-sha2-256,hmac-sha1"},
	} {
		known := func(list string, query string) string { // ssh gives up on names that it has dropped itself
			has, _ := testkit.Run(t, "", "ssh", "-Q", query)
			var both []string
			for one := range strings.SplitSeq(list, ",") {
				if strings.Contains("\n"+has, "\n"+one+"\n") {
					both = append(both, one)
				}
			}
			return strings.Join(both, ",")
		}
		options := append(k.SSHOptions(key), "-b", "-", "-o", "KexAlgorithms="+known(offer[0], "kex"), "-o", "HostKeyAlgorithms="+known(offer[1], "HostKeyAlgorithms"), "-o", "Ciphers="+known(offer[2], "cipher"), "-o", "MACs="+known(offer[3], "mac"))
		out, err := testkit.Run(t, "pwd\n", "sftp", append(options[1:], "ann@127.0.0.1")...)
		assert.NoError(t, err, "%s: %s", client, out)
	}
	for _, only := range []string{"ECDHE-ECDSA-AES128-GCM-SHA256", "ECDHE-ECDSA-AES256-GCM-SHA384", "ECDHE-ECDSA-CHACHA20-POLY1305"} {
		out, _ := testkit.Run(t, "", "openssl", "s_client", "-connect", k.Address("ftps"), "-tls1_2", "-cipher", only)
		assert.Contains(t, out, "Cipher is "+only, out)
	}
}
