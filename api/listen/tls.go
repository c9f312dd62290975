package listen

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
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// lookEach is how often it is looked whether the files of a certificate have changed.
const lookEach = 10 * time.Second

// Files is a certificate in two files of PEM. It is read anew when they change: a
// certificate is renewed by writing the files, and nobody is cut off. A pair that cannot
// be read is logged, and the last good one stays.
type Files struct {
	Cert, Key string
	Log       *slog.Logger
	Now       func() time.Time // nil: time.Now

	mu     sync.Mutex
	loaded *tls.Certificate
	looked time.Time
	stamp  [2]time.Time
}

// Config gives what a listener needs: TLS 1.2 and later (RFC 9325, 3.1.1), HTTP/2 first.
func (f *Files) Config() (*tls.Config, error) {
	if _, err := f.certificate(nil); err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
		GetCertificate: f.certificate}, nil
}

func (f *Files) certificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	if f.Now != nil {
		now = f.Now()
	}
	if f.loaded != nil && now.Sub(f.looked) < lookEach {
		return f.loaded, nil
	}
	f.looked = now
	stamp, err := f.stamps()
	if err == nil && f.loaded != nil && stamp == f.stamp {
		return f.loaded, nil
	}
	var read tls.Certificate
	if err == nil {
		read, err = tls.LoadX509KeyPair(f.Cert, f.Key)
	}
	if err != nil {
		if f.loaded == nil {
			return nil, fmt.Errorf("the certificate %s with the key %s: %w", f.Cert, f.Key, err)
		}
		f.Log.Error("the certificate cannot be read anew; the last one stays", "file", f.Cert, "error", err)
		return f.loaded, nil
	}
	if f.loaded != nil {
		f.Log.Info("the certificate was read anew", "file", f.Cert)
	}
	f.loaded, f.stamp = &read, stamp
	return f.loaded, nil
}

func (f *Files) stamps() (out [2]time.Time, err error) {
	for i, name := range []string{f.Cert, f.Key} {
		info, err := os.Stat(name)
		if err != nil {
			return out, err
		}
		out[i] = info.ModTime()
	}
	return out, nil
}

// Ends gives when the certificate in use ends; zero where it cannot be told.
func (f *Files) Ends() time.Time {
	c, err := f.certificate(nil)
	if err != nil || c.Leaf == nil {
		return time.Time{}
	}
	return c.Leaf.NotAfter
}

// How long a self-made certificate is good, and how long before its end another is made.
const (
	selfMadeFor   = 397 * 24 * time.Hour
	selfMadeEarly = 30 * 24 * time.Hour
)

// SelfMade gives a certificate that nobody has signed, for trials: browsers warn of it.
// It is kept in a folder, and made anew when it is about to end or other names are asked
// for.
func SelfMade(dir string, names []string, log *slog.Logger, now time.Time) (*Files, error) {
	f := &Files{Cert: filepath.Join(dir, "self-made.crt"), Key: filepath.Join(dir, "self-made.key"), Log: log}
	if c, err := tls.LoadX509KeyPair(f.Cert, f.Key); err == nil && now.Before(c.Leaf.NotAfter.Add(-selfMadeEarly)) &&
		covers(c.Leaf, names) {
		return f, nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		log.Warn("the self-made certificate cannot be read; another is made", "error", err)
	}
	return f, makeOne(f, names, now)
}

func covers(c *x509.Certificate, names []string) bool {
	for _, name := range names {
		if c.VerifyHostname(name) != nil {
			return false
		}
	}
	return true
}

func makeOne(f *Files, names []string, now time.Time) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	c := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "Ready Ferry, self-made"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(selfMadeFor),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true,
	}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, name)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(f.Key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600); err != nil {
		return err
	}
	return os.WriteFile(f.Cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644)
}
