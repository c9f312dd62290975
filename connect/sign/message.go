package sign

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"
)

// The algorithms of HTTP Message Signatures (RFC 9421, 3.3).
const (
	HMACSHA256   = "hmac-sha256"
	Ed25519      = "ed25519"
	ECDSAP256    = "ecdsa-p256-sha256"
	RSAPSS512    = "rsa-pss-sha512"
	RSAv15SHA256 = "rsa-v1_5-sha256"
)

// Usual are the components that are signed where nothing else is said: all of the request
// that matters. The body is signed by its digest (RFC 9530).
var Usual = []string{"@method", "@authority", "@path", "@query", "content-type", "content-digest"}

// Message says how requests are signed by RFC 9421.
type Message struct {
	Algorithm  string
	Secret     string // base64 of an HMAC's key, or a key as PEM: private to sign, public to check
	KeyID      string
	Components []string // those that are signed; Usual when empty
	Label      string   // sig1 when empty
}

// Sign puts Content-Digest, Signature-Input and Signature on a request.
func (m *Message) Sign(r *Request, now time.Time) error {
	components := m.Components
	if len(components) == 0 {
		components = Usual
	}
	label := m.Label
	if label == "" {
		label = "sig1"
	}
	if slices.Contains(components, "content-digest") {
		d := sha256.Sum256(r.Body)
		r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(d[:])+":")
	}
	var items []item
	var list []string
	for _, c := range components {
		if c == "content-type" && r.Header.Get(c) == "" {
			continue
		}
		items, list = append(items, item{value: c}), append(list, quoted(c))
	}
	params := fmt.Sprintf("(%s);created=%d", strings.Join(list, " "), now.Unix())
	if m.KeyID != "" {
		params += ";keyid=" + quoted(m.KeyID)
	}
	params += ";alg=" + quoted(m.Algorithm)
	base, err := r.base(items, params)
	if err != nil {
		return err
	}
	signature, err := m.make(base)
	if err != nil {
		return err
	}
	r.Header.Set("Signature-Input", label+"="+params)
	r.Header.Set("Signature", label+"=:"+base64.StdEncoding.EncodeToString(signature)+":")
	return nil
}

// Verify checks the signature of a request: one of its signatures must be made with the
// key, cover the components, and be timely; and where it covers the digest of the body,
// that must be right.
func (m *Message) Verify(r *Request, now time.Time) error {
	inputs, err := readDictionary(strings.Join(r.Header.Values("Signature-Input"), ", "))
	if err != nil {
		return fmt.Errorf("%w: Signature-Input: %w", ErrNotSigned, err)
	}
	signatures, err := readDictionary(strings.Join(r.Header.Values("Signature"), ", "))
	if err != nil {
		return fmt.Errorf("%w: Signature: %w", ErrNotSigned, err)
	}
	last := errors.New("there is none")
	for _, in := range inputs {
		for _, s := range signatures {
			if s.name != in.name || s.inner || !in.inner {
				continue
			}
			if last = m.verifyOne(r, in, s.bytes, now); last == nil {
				return nil
			}
		}
	}
	return fmt.Errorf("%w: %w", ErrNotSigned, last)
}

func (m *Message) verifyOne(r *Request, in member, signature []byte, now time.Time) error {
	if err := m.fits(in.params, now); err != nil {
		return err
	}
	wanted := m.Components
	if len(wanted) == 0 {
		wanted = Usual
	}
	for _, c := range wanted {
		covered := slices.ContainsFunc(in.items, func(i item) bool { return i.value == c && len(i.params) == 0 })
		if !covered && (c != "content-type" || r.Header.Get(c) != "") {
			return fmt.Errorf("it does not cover %s", c)
		}
	}
	if slices.ContainsFunc(in.items, func(i item) bool { return i.value == "content-digest" }) {
		if err := digestFits(r.Header.Get("Content-Digest"), r.Body); err != nil {
			return err
		}
	}
	base, err := r.base(in.items, in.raw)
	if err != nil {
		return err
	}
	if !m.check(base, signature) {
		return errors.New("the key does not fit")
	}
	return nil
}

// fits looks at the parameters of a signature (2.3).
func (m *Message) fits(params []param, now time.Time) error {
	created := false
	for _, p := range params {
		switch p.name {
		case "created", "expires":
			seconds, is := p.value.(int64)
			if !is {
				return fmt.Errorf("%s is no time", p.name)
			}
			at := time.Unix(seconds, 0)
			if p.name == "expires" && now.After(at) {
				return errors.New("it has expired")
			}
			if p.name == "created" {
				created = true
				if err := timely(at, now); err != nil {
					return err
				}
			}
		case "alg":
			if p.value != m.Algorithm {
				return fmt.Errorf("it is made by %v", p.value)
			}
		case "keyid":
			if m.KeyID != "" && p.value != m.KeyID {
				return errors.New("it is made with another key")
			}
		}
	}
	if !created {
		return errors.New("it does not say when it was made")
	}
	return nil
}

// digestFits compares a body with its digest (RFC 9530).
func digestFits(field string, body []byte) error {
	all, err := readDictionary(field)
	if err != nil {
		return fmt.Errorf("Content-Digest: %w", err)
	}
	known := false
	for _, d := range all {
		var want []byte
		switch d.name {
		case "sha-256":
			s := sha256.Sum256(body)
			want = s[:]
		case "sha-512":
			s := sha512.Sum512(body)
			want = s[:]
		default:
			continue
		}
		if known = true; !hmac.Equal(want, d.bytes) {
			return errors.New("the body is not the one that was signed")
		}
	}
	if !known {
		return errors.New("Content-Digest has no digest that is known here")
	}
	return nil
}

// base makes the signature base (2.5).
func (r *Request) base(items []item, params string) ([]byte, error) {
	var out strings.Builder
	seen := map[string]bool{}
	for _, i := range items {
		if len(i.params) > 0 {
			return nil, fmt.Errorf("the component %s has parameters, which are not understood here", i.value)
		}
		if seen[i.value] {
			return nil, fmt.Errorf("the component %s stands twice", i.value)
		}
		seen[i.value] = true
		value, err := r.component(i.value)
		if err != nil {
			return nil, err
		}
		out.WriteString(quoted(i.value) + ": " + value + "\n")
	}
	out.WriteString(`"@signature-params": ` + params)
	return []byte(out.String()), nil
}

// component gives the value of a component: a derived one (2.2) or a field (2.1).
func (r *Request) component(name string) (string, error) {
	switch name {
	case "@method":
		return r.Method, nil
	case "@authority":
		return r.Authority, nil
	case "@scheme":
		return r.Scheme, nil
	case "@path":
		return r.Path, nil
	case "@query":
		return "?" + r.Query, nil
	case "@request-target":
		if r.Query != "" {
			return r.Path + "?" + r.Query, nil
		}
		return r.Path, nil
	case "@target-uri":
		uri := r.Scheme + "://" + r.Authority + r.Path
		if r.Query != "" {
			uri += "?" + r.Query
		}
		return uri, nil
	}
	if strings.HasPrefix(name, "@") || name != strings.ToLower(name) {
		return "", fmt.Errorf("there is no component %s here", name)
	}
	values := r.Header.Values(name)
	if len(values) == 0 {
		return "", fmt.Errorf("the request has no %s", name)
	}
	trimmed := make([]string, len(values))
	for i, v := range values {
		trimmed[i] = strings.TrimSpace(v)
	}
	return strings.Join(trimmed, ", "), nil
}

// make signs.
func (m *Message) make(base []byte) ([]byte, error) {
	if m.Algorithm == HMACSHA256 {
		return m.mac(base)
	}
	key, err := PrivateKey(m.Secret)
	if err != nil {
		return nil, err
	}
	hashed := sha256.Sum256(base)
	switch k := key.(type) {
	case ed25519.PrivateKey:
		if m.Algorithm == Ed25519 {
			return ed25519.Sign(k, base), nil
		}
	case *ecdsa.PrivateKey:
		if m.Algorithm == ECDSAP256 && k.Params().BitSize == 256 {
			x, y, err := ecdsa.Sign(rand.Reader, k, hashed[:])
			if err != nil {
				return nil, err
			}
			return append(x.FillBytes(make([]byte, 32)), y.FillBytes(make([]byte, 32))...), nil // 3.3.4
		}
	case *rsa.PrivateKey:
		if m.Algorithm == RSAv15SHA256 {
			return rsa.SignPKCS1v15(rand.Reader, k, crypto.SHA256, hashed[:])
		}
		if m.Algorithm == RSAPSS512 {
			long := sha512.Sum512(base)
			return rsa.SignPSS(rand.Reader, k, crypto.SHA512, long[:], &rsa.PSSOptions{SaltLength: 64})
		}
	}
	return nil, fmt.Errorf("the key is none for %s", m.Algorithm)
}

func (m *Message) mac(base []byte) ([]byte, error) {
	key, err := base64.StdEncoding.DecodeString(m.Secret)
	if err != nil {
		return nil, errors.New("the secret is not base64")
	}
	mac := hmac.New(sha256.New, key)
	mac.Write(base)
	return mac.Sum(nil), nil
}

// check tells whether a signature was made with the key.
func (m *Message) check(base, signature []byte) bool {
	if m.Algorithm == HMACSHA256 {
		want, err := m.mac(base)
		return err == nil && hmac.Equal(want, signature)
	}
	key, err := PublicKey(m.Secret)
	if err != nil {
		return false
	}
	hashed := sha256.Sum256(base)
	switch k := key.(type) {
	case ed25519.PublicKey:
		return m.Algorithm == Ed25519 && ed25519.Verify(k, base, signature)
	case *ecdsa.PublicKey:
		if m.Algorithm != ECDSAP256 || k.Params().BitSize != 256 || len(signature) != 64 {
			return false
		}
		return ecdsa.Verify(k, hashed[:], new(big.Int).SetBytes(signature[:32]), new(big.Int).SetBytes(signature[32:]))
	case *rsa.PublicKey:
		if m.Algorithm == RSAv15SHA256 {
			return rsa.VerifyPKCS1v15(k, crypto.SHA256, hashed[:], signature) == nil
		}
		long := sha512.Sum512(base)
		return m.Algorithm == RSAPSS512 && rsa.VerifyPSS(k, crypto.SHA512, long[:], signature, &rsa.PSSOptions{SaltLength: 64}) == nil
	}
	return false
}

// PrivateKey reads a private key as PEM.
func PrivateKey(text string) (any, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, errors.New("the key is not PEM")
	}
	if key, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
		return key, nil
	}
	if key, err := x509.ParsePKCS1PrivateKey(block.Bytes); err == nil {
		return key, nil
	}
	if key, err := x509.ParseECPrivateKey(block.Bytes); err == nil {
		return key, nil
	}
	return nil, errors.New("the PEM holds no private key that is known here")
}

// PublicKey reads a public key, or one of a certificate, as PEM.
func PublicKey(text string) (any, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, errors.New("the key is not PEM")
	}
	if key, err := x509.ParsePKIXPublicKey(block.Bytes); err == nil {
		return key, nil
	}
	if key, err := x509.ParsePKCS1PublicKey(block.Bytes); err == nil {
		return key, nil
	}
	if c, err := x509.ParseCertificate(block.Bytes); err == nil {
		return c.PublicKey, nil
	}
	return nil, errors.New("the PEM holds no public key that is known here")
}
