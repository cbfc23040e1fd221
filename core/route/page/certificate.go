package page

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"fmt"
	"math/big"
	"net"
	"os"
	"strings"
	"time"
)

// certificate returns what a TLS server needs: the user's certificate, or one made for this
// computer's names and addresses, and the SHA-256 fingerprint of it, as browsers show it.
func certificate(certFile, keyFile string) (*tls.Config, string, error) {
	var pair tls.Certificate
	var err error
	if certFile != "" {
		pair, err = tls.LoadX509KeyPair(certFile, keyFile)
	} else {
		pair, err = selfSigned()
	}
	if err != nil {
		return nil, "", fmt.Errorf("--tls: %w", err)
	}
	sum := sha256.Sum256(pair.Certificate[0])
	parts := make([]string, len(sum))
	for i, b := range sum {
		parts[i] = fmt.Sprintf("%02X", b)
	}
	return &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}, strings.Join(parts, ":"), nil
}

// keyPin returns the base64 SHA-256 of a server's public key (RFC 7469, 2.4), "" without a server's
// configuration: by it the browser that is opened here knows a certificate that nobody has signed.
func keyPin(c *tls.Config) string {
	if c == nil {
		return ""
	}
	cert, err := x509.ParseCertificate(c.Certificates[0].Certificate[0])
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(cert.RawSubjectPublicKeyInfo)
	return base64.StdEncoding.EncodeToString(sum[:])
}

func selfSigned() (pair tls.Certificate, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return pair, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return pair, err
	}
	name, _ := os.Hostname() // it is also known by its addresses
	c := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Vivid Strain"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(7 * 24 * time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, DNSNames: []string{"localhost"}}
	if name != "" {
		c.DNSNames = append(c.DNSNames, name, name+".local")
	}
	found, _ := net.InterfaceAddrs()
	for _, a := range found {
		if n, is := a.(*net.IPNet); is {
			c.IPAddresses = append(c.IPAddresses, n.IP)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}
