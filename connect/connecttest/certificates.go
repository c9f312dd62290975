package connecttest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"testing"
	"time"
)

// Issued is a certificate with its key, as PEM.
type Issued struct {
	Certificate, Key string
	Pair             tls.Certificate
	Parsed           *x509.Certificate
	signer           *ecdsa.PrivateKey
}

// Issue makes a certificate for a name, signed by another one; nil makes an authority.
func Issue(t *testing.T, name string, by *Issued, until time.Time) *Issued {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: until, IsCA: by == nil, BasicConstraintsValid: true,
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}
	out := &Issued{signer: key}
	parent, signer := template, key
	if by != nil {
		parent, signer = by.Parsed, by.signer
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, signer)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	out.Certificate = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	out.Key = string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
	out.Parsed, _ = x509.ParseCertificate(der)
	if out.Pair, err = tls.X509KeyPair([]byte(out.Certificate), []byte(out.Key)); err != nil {
		t.Fatal(err)
	}
	return out
}
