package certificate

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"time"

	"urbankeep/internal/records"
)

// makeMissing makes the certificate of a new data folder.
func makeMissing(file string, now time.Time) error {
	if _, err := os.Stat(file); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	text, err := selfSigned(now, "")
	if err != nil {
		return err
	}
	return write(file, text)
}

// write puts a secret file (0600, in a folder of 0700) under its name only when it
// is whole and on the medium.
func write(file string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return records.WriteFile(file, text)
}

// certificateLife is as long as clients take a certificate that was pinned by hand.
const certificateLife = 825 * 24 * time.Hour

// selfSigned makes a certificate for this machine's names and addresses, and for host, ""
// for none.
func selfSigned(now time.Time, host string) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, err
	}
	name, _ := os.Hostname()
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Urban Keep on " + name},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(certificateLife), KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true, IsCA: true, DNSNames: []string{"localhost"}}
	if name != "" && name != "localhost" {
		template.DNSNames = append(template.DNSNames, name)
	}
	addresses, _ := net.InterfaceAddrs()
	for _, a := range addresses {
		if ip, ok := a.(*net.IPNet); ok && !ip.IP.IsLinkLocalUnicast() {
			template.IPAddresses = append(template.IPAddresses, ip.IP)
		}
	}
	if ip := net.ParseIP(host); ip != nil {
		template.IPAddresses = append(template.IPAddresses, ip)
	} else if host != "" && !slices.Contains(template.DNSNames, host) {
		template.DNSNames = append(template.DNSNames, host)
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...), nil
}
