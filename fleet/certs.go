package fleet

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
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/goccy/go-yaml"
)

// certFor is how long what is made here is good for.
const certFor = 3 * 365 * 24 * time.Hour

// The authority of a fleet: its key signs the members' certificates and is needed for nothing else.
const (
	authorityCert = "authority.pem"
	authorityKey  = "authority-key.pem"
	runnersFile   = "for-runners.pem" // whom runners trust, by --ca
)

// The certificate by which people and runners know a member, where its address is one of https.
const (
	publicCert = "public.pem"
	publicKey  = "public-key.pem"
)

// Init makes the folder of a fleet: an authority of its own, and for each member a folder with its
// file, its certificate and the keys. What is there already stays as it is.
func Init(dir string, f *File, now time.Time) error {
	if err := f.Check(); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(dir, authorityCert)); err == nil {
		return fmt.Errorf("there is a fleet in %s already; readyferry fleet rotate makes its certificates anew", dir)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	seal := make([]byte, 32)
	if _, err := rand.Read(seal); err != nil {
		return err
	}
	ca, err := newAuthority(f.Name, now)
	if err == nil {
		err = ca.write(dir)
	}
	if err != nil {
		return err
	}
	for _, m := range f.Members {
		own := filepath.Join(dir, m.Name)
		if err := os.MkdirAll(own, 0o700); err != nil {
			return err
		}
		mine := *f
		if mine.Partitions == 1 { // as releases say it that know of one alone
			mine.Partitions = 0
		}
		mine.Form, mine.This = fileForm, m.Name
		text, err := yaml.Marshal(&mine)
		if err == nil {
			err = errors.Join(put(own, fleetFile, text), put(own, sealFile, seal), put(own, caFile, ca.pem),
				ca.issueAll(own, &m, now))
		}
		if err != nil {
			return err
		}
	}
	return put(dir, runnersFile, ca.pem)
}

// Rotate makes a new authority and new certificates in the folder that Init made. Members and runners
// trust both authorities until finish is true, so that they may be given the new ones in turn.
func Rotate(dir string, finish bool, now time.Time) error {
	old, err := os.ReadFile(filepath.Join(dir, authorityCert))
	if err != nil {
		return fmt.Errorf("there is no fleet in %s: %w", dir, err)
	}
	files, err := filepath.Glob(filepath.Join(dir, "*", fleetFile))
	if err != nil || len(files) == 0 {
		return errors.Join(err, fmt.Errorf("there are no members in %s", dir))
	}
	trusted := old
	var ca *authority
	if !finish {
		if ca, err = newAuthority(filepath.Base(dir), now); err == nil {
			err = ca.write(dir)
		}
		if err != nil {
			return err
		}
		trusted = append(append([]byte{}, ca.pem...), old...)
	}
	for _, file := range files {
		f, err := Read(file)
		if err == nil {
			err = put(f.dir, caFile, trusted)
		}
		if err == nil && ca != nil {
			err = ca.issueAll(f.dir, f.Self(), now)
		}
		if err != nil {
			return err
		}
	}
	return put(dir, runnersFile, trusted)
}

// Adopt gives the members of the folder that Init made the key to secrets of an instance whose journal
// they are to have. Where that key is given from outside of the folder, each of them is to be given it.
func Adopt(dir, data string) error {
	members, err := filepath.Glob(filepath.Join(dir, "*", fleetFile))
	if err != nil || len(members) == 0 {
		return errors.Join(err, fmt.Errorf("there is no fleet in %s", dir))
	}
	key, err := os.ReadFile(filepath.Join(data, sealFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, m := range members {
		if err = errors.Join(err, put(filepath.Dir(m), sealFile, key)); err != nil {
			return err
		}
	}
	return err
}

// put writes a file that its owner alone reads, whole or not at all.
func put(dir, name string, b []byte) error {
	file := filepath.Join(dir, name)
	if err := os.WriteFile(file+".part", b, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".part", file)
}

type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	pem  []byte
}

func serial() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	return n
}

func newAuthority(name string, now time.Time) (*authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "members of " + name},
		NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(
			2 * certFor,
		), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, MaxPathLenZero: true}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	a := &authority{key: key, pem: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})}
	a.cert, err = x509.ParseCertificate(der)
	return a, err
}

func (a *authority) write(dir string) error {
	key, err := keyPEM(a.key)
	if err != nil {
		return err
	}
	return errors.Join(put(dir, authorityKey, key), put(dir, authorityCert, a.pem))
}

func keyPEM(key *ecdsa.PrivateKey) ([]byte, error) {
	der, err := x509.MarshalECPrivateKey(key)
	return pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}), err
}

// issueAll makes the certificates of a member: the one by which the others know it, whatever address it
// has, and the one by which people and runners do.
func (a *authority) issueAll(dir string, m *Member, now time.Time) error {
	if err := a.issue(dir, certFile, keyFile, &x509.Certificate{Subject: pkix.Name{CommonName: m.Name},
		DNSNames:    []string{m.Name},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}, now); err != nil {
		return err
	}
	u, err := url.Parse(m.Address)
	if err != nil || u.Scheme != "https" {
		return err
	}
	t := &x509.Certificate{Subject: pkix.Name{CommonName: u.Hostname()},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if ip := net.ParseIP(u.Hostname()); ip != nil {
		t.IPAddresses = []net.IP{ip}
	} else {
		t.DNSNames = []string{u.Hostname()}
	}
	return a.issue(dir, publicCert, publicKey, t, now)
}

// issue makes a certificate and its key.
func (a *authority) issue(dir, certName, keyName string, t *x509.Certificate, now time.Time) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	t.SerialNumber, t.NotBefore, t.NotAfter, t.KeyUsage = serial(), now.Add(
		-time.Hour,
	), now.Add(
		certFor,
	), x509.KeyUsageDigitalSignature
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, &key.PublicKey, a.key)
	if err != nil {
		return err
	}
	text, err := keyPEM(key)
	if err != nil {
		return err
	}
	return errors.Join(put(dir, keyName, text), put(dir, certName, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: der})))
}

// Public gives the files of the certificate by which people and runners know this member; "" where its
// address is not one of https.
func (f *File) Public() (cert, key string) {
	if _, err := os.Stat(f.beside(publicCert)); err != nil {
		return "", ""
	}
	return f.beside(publicCert), f.beside(publicKey)
}

// identity is a member's certificate, and whom it trusts; both are read anew when they change, so that
// rotating them cuts nobody off.
type identity struct {
	f      *File
	mu     sync.Mutex
	looked time.Time
	cert   *tls.Certificate
	pool   *x509.CertPool
}

// lookEach is how often it is looked whether the files have changed.
const lookEach = 5 * time.Second

func (i *identity) now() (*tls.Certificate, *x509.CertPool, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.cert != nil && time.Since(i.looked) < lookEach {
		return i.cert, i.pool, nil
	}
	cert, err := tls.LoadX509KeyPair(i.f.beside(certFile), i.f.beside(keyFile))
	var ca []byte
	if err == nil {
		ca, err = os.ReadFile(i.f.beside(caFile))
	}
	pool := x509.NewCertPool()
	if err == nil && !pool.AppendCertsFromPEM(ca) {
		err = fmt.Errorf("%s holds no certificate", i.f.beside(caFile))
	}
	switch {
	case err == nil:
		i.cert, i.pool, i.looked = &cert, pool, time.Now()
	case i.cert == nil:
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("%w; readyferry fleet init makes it", err)
		}
		return nil, nil, err
	}
	return i.cert, i.pool, nil // the last good ones
}

// verify says whether who is at the other side is a member of this fleet: their certificate is signed
// by its authority and names a member.
func (i *identity) verify(s tls.ConnectionState) error {
	_, pool, err := i.now()
	if err != nil {
		return err
	}
	if len(s.PeerCertificates) == 0 {
		return errors.New("who calls shows no certificate")
	}
	cert := s.PeerCertificates[0]
	if _, err := cert.Verify(x509.VerifyOptions{Roots: pool,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err != nil {
		return err
	}
	if i.f.Member(cert.Subject.CommonName) == nil {
		return fmt.Errorf("%q is no member", cert.Subject.CommonName)
	}
	return nil
}

// config gives how members speak TLS with each other, whichever of them has called.
func (i *identity) config() *tls.Config {
	return &tls.Config{
		MinVersion: tls.VersionTLS13, ClientAuth: tls.RequireAnyClientCert,
		// Names of hosts say nothing here: verify asks for the authority of the fleet and a member's name.
		InsecureSkipVerify: true, VerifyConnection: i.verify,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { c, _, err := i.now(); return c, err },
		GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
			c, _, err := i.now()
			return c, err
		},
	}
}
