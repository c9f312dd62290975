package design

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/connect/sign"
)

// The secrets that examples are signed with open nothing: one that stands here for all that
// share a secret with their callers, and a key pair of this process for each algorithm that
// has one.
var (
	exampleShared = base64.StdEncoding.EncodeToString([]byte("an example secret, not yours"))
	exampleKeys   sync.Map // algorithm to PEM
)

// sign puts on s how the request of an example is signed, and with what. authority is the
// host that callers ask; what cannot be signed, such as by a template that fails, leaves s
// without an example.
func (s *CallerSignIn) sign(c *connect.Connection, x *CallerExample, authority string, now time.Time) {
	r := requestOf(x, authority)
	before := r.Header.Clone()
	secret, err := exampleShared, error(nil)
	switch s.Scheme {
	case sign.MessageSignature:
		m := sign.Message{
			Algorithm:  c.Text("/sign-in/algorithm"),
			KeyID:      c.Text("/sign-in/key-id"),
			Components: c.Texts("/sign-in/covers"),
		}
		if m.Algorithm != "" && m.Algorithm != sign.HMACSHA256 {
			secret, err = exampleKey(m.Algorithm)
		} else {
			m.Algorithm = sign.HMACSHA256
		}
		if m.Secret = secret; err == nil {
			err = m.Sign(r, now)
		}
	case sign.Written:
		err = signWritten(c, r, secret, now)
	default:
		s.Scheme, secret = "standard-webhooks", "whsec_"+secret
		err = sign.SignWebhook(r, secret, "msg_example", now)
	}
	if err != nil {
		return
	}
	s.Secret, s.Signed = secret, map[string]string{}
	for name := range r.Header {
		if before.Get(name) != r.Header.Get(name) {
			s.Signed[strings.ToLower(name)] = r.Header.Get(name)
		}
	}
}

// signWritten signs by the template of a connection.
func signWritten(c *connect.Connection, r *sign.Request, secret string, now time.Time) error {
	t, err := sign.ReadTemplate(c.Text("/sign-in/value"))
	if err != nil {
		return err
	}
	at, id := c.Text("/sign-in/time-header"), ""
	if strings.Contains(c.Text("/sign-in/value"), "request.id") {
		id = "msg_example"
		r.Header.Set("Idempotency-Key", id)
	}
	stamp := time.Time{}
	if at != "" {
		stamp = now
		r.Header.Set(at, strconv.FormatInt(now.Unix(), 10))
	}
	value, err := t.Eval(r, secret, id, stamp)
	if err != nil {
		return err
	}
	header := c.SignIn.Header
	if header == "" {
		header = "X-Signature"
	}
	r.Header.Set(header, value)
	return nil
}

// requestOf gives an example as it is sent to a host.
func requestOf(x *CallerExample, authority string) *sign.Request {
	r := &sign.Request{Method: http.MethodPost, Authority: strings.ToLower(authority), Header: http.Header{}, Path: "/"}
	if x == nil {
		return r
	}
	r.Method, r.Body = x.Method, []byte(x.Body)
	if u, err := url.Parse(x.Path); err == nil {
		r.Path, r.Query = u.EscapedPath(), u.RawQuery
	}
	for name, v := range x.Headers {
		r.Header.Set(name, v)
	}
	return r
}

// exampleKey gives the private key, as PEM, that examples of an algorithm are signed with.
func exampleKey(algorithm string) (string, error) {
	if made, ok := exampleKeys.Load(algorithm); ok {
		return made.(string), nil
	}
	var key any
	var err error
	switch algorithm {
	case sign.Ed25519:
		_, key, err = ed25519.GenerateKey(rand.Reader)
	case sign.ECDSAP256:
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	default:
		key, err = rsa.GenerateKey(rand.Reader, 2048)
	}
	if err != nil {
		return "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	text := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	first, _ := exampleKeys.LoadOrStore(algorithm, text)
	return first.(string), nil
}
