package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// madeOnce reads a secret file, making it (0600, in a folder of 0700) where it
// is missing. It appears under its name only when it is whole.
func madeOnce(file string, make func() ([]byte, error)) ([]byte, error) {
	text, err := os.ReadFile(file)
	if !errors.Is(err, fs.ErrNotExist) {
		return text, err
	}
	if text, err = make(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	if err := os.WriteFile(file+".new", text, 0o600); err != nil {
		return nil, err
	}
	return text, os.Rename(file+".new", file)
}

// certificate reads the TLS certificate and key, one PEM file, making them for
// this machine's names and addresses where they are missing.
func certificate(dir string, now time.Time) (tls.Certificate, error) {
	file := filepath.Join(dir, "tls", "certificate.pem")
	text, err := madeOnce(file, func() ([]byte, error) { return selfSigned(now) })
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("TLS certificate: %w", err)
	}
	pair, err := tls.X509KeyPair(text, text)
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("TLS certificate: %w: %s must hold the certificate and its key in PEM form", err, file)
	}
	return pair, nil
}

// certificateLife is as long as clients take a certificate that was pinned by hand.
const certificateLife = 825 * 24 * time.Hour

func selfSigned(now time.Time) ([]byte, error) {
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
