package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
)

// TLSProperty is the setting of connections that says how TLS is spoken, as JSON Schema.
const TLSProperty = `"tls": {"type": "object", "title": "TLS", "additionalProperties": false, "properties": {
	"ca": {"type": "string", "title": "Certificate authority", "format": "certificate", "maxLength": 100000, "description":
		"PEM; those of this machine when empty"},
	"server-name": {"type": "string", "title": "Server name", "maxLength": 253, "description":
		"that its certificate is for; the host of the address when empty"},
	"lowest": {"enum": ["1.2", "1.3"], "title": "Lowest version", "default": "1.2", "description":
		"of TLS that is spoken"}}}`

// SignInMTLS is signing in by a certificate of our own; the key belonging to it is the
// secret.
const SignInMTLS = "mtls"

// SignInProperty gives the setting of how one signs in, of these ways, as JSON Schema.
// "none" must be the first of them.
func SignInProperty(ways ...string) string {
	titles := map[string]string{connect.SignInBasic: "user and password", SignInMTLS: "certificate",
		connect.SignInBearer: "token", "key": "private key", "scram-sha-256": "user and password, SCRAM-SHA-256",
		"scram-sha-512": "user and password, SCRAM-SHA-512"}
	withUser := slices.DeleteFunc(slices.Clone(ways), func(w string) bool {
		return w == connect.SignInNone || w == connect.SignInBearer || w == SignInMTLS
	})
	var named []string
	for _, w := range ways {
		if t := titles[w]; t != "" {
			named = append(named, fmt.Sprintf("%q: %q", w, t))
		}
	}
	list := func(all []string) string { return `["` + strings.Join(all, `", "`) + `"]` }
	return `"sign-in": {"type": "object", "title": "Sign-in", "required": ["kind"], "additionalProperties": false, "properties": {
		"kind": {"enum": ` + list(
		ways,
	) + `, "title": "Sign-in", "default": "` + ways[0] + `", "titles": {` + strings.Join(
		named,
		", ",
	) + `}},
		"user": {"type": "string", "title": "User", "when": {"kind": ` + list(
		withUser,
	) + `}},
		"certificate": {"type": "string", "title": "Our certificate", "format": "certificate", "maxLength": 100000,
			"description": "PEM, with those between it and its authority", "when": {"kind": ["mtls"]}},
		"secret": {"type": "string", "title": "Secret", "format": "secret", "description": "the password, or the private key as PEM",
			"when": {"kind": ` + list(
		ways[1:],
	) + `}}}}`
}

// CheckTLS finds what is wrong with the certificates that a connection holds.
func CheckTLS(c *connect.Connection, found connect.Found) {
	if pem := c.Text("/tls/ca"); pem != "" && !x509.NewCertPool().AppendCertsFromPEM(Lines(pem)) {
		found(
			"/tls/ca",
			"wrong-value",
			"it holds no certificate",
			"write it as PEM, from -----BEGIN CERTIFICATE----- on",
		)
	}
	if c.SignIn.Kind != SignInMTLS {
		return
	}
	switch pem := c.Text("/sign-in/certificate"); {
	case pem == "":
		found("/sign-in", "missing-key", "signing in with a certificate needs one", "add certificate:")
	case !x509.NewCertPool().AppendCertsFromPEM(Lines(pem)):
		found("/sign-in/certificate", "wrong-value", "it holds no certificate",
			"write it as PEM, from -----BEGIN CERTIFICATE----- on")
	}
}

// Config gives the TLS of a connection to a host. An error tells that its certificate
// and key do not belong together or cannot be read.
func Config(c *connect.Connection, host string) (*tls.Config, error) {
	config := &tls.Config{ServerName: host, MinVersion: lowest(c)}
	if c.Shown != nil {
		config.VerifyConnection = func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) > 0 {
				c.Shown(s.PeerCertificates[0].NotAfter)
			}
			return nil
		}
	}
	if name := c.Text("/tls/server-name"); name != "" {
		config.ServerName = name
	}
	if pem := c.Text("/tls/ca"); pem != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM(Lines(pem))
	}
	if c.SignIn.Kind != SignInMTLS {
		return config, nil
	}
	var err error
	config.Certificates, err = own(c)
	return config, err
}

// ListenConfig gives the TLS of a connection that listens: it shows its own certificate, and
// where it names an authority, whoever comes must show one of that authority. An error tells
// that there is no certificate, or none that can be used.
func ListenConfig(c *connect.Connection) (*tls.Config, error) {
	certificates, err := own(c)
	if err != nil {
		return nil, err
	}
	config := &tls.Config{Certificates: certificates, MinVersion: lowest(c)}
	if pem := c.Text("/tls/ca"); pem != "" {
		config.ClientCAs, config.ClientAuth = x509.NewCertPool(), tls.RequireAndVerifyClientCert
		config.ClientCAs.AppendCertsFromPEM(Lines(pem))
	}
	return config, nil
}

// Ends gives when the first of the certificates that a connection holds ends, its own or one of
// an authority; zero where it holds none.
func Ends(c *connect.Connection) (first time.Time) {
	for _, at := range []string{"/sign-in/certificate", "/tls/ca"} {
		for rest := Lines(c.Text(at)); ; {
			var block *pem.Block
			if block, rest = pem.Decode(rest); block == nil {
				break
			}
			one, err := x509.ParseCertificate(block.Bytes)
			if err == nil && (first.IsZero() || one.NotAfter.Before(first)) {
				first = one.NotAfter
			}
		}
	}
	return first
}

// lowest gives the lowest version of TLS that a connection speaks.
func lowest(c *connect.Connection) uint16 {
	if c.Text("/tls/lowest") == "1.3" {
		return tls.VersionTLS13
	}
	return tls.VersionTLS12
}

// own reads the own certificate of a connection with its key.
func own(c *connect.Connection) ([]tls.Certificate, error) {
	if len(c.SignIn.Secrets) == 0 {
		return nil, errors.New("the connection has no private key")
	}
	pair, err := tls.X509KeyPair(Lines(c.Text("/sign-in/certificate")), Lines(c.SignIn.Secrets[0]))
	if err != nil {
		return nil, errors.New("the certificate and the private key do not belong together, or one of them is not PEM")
	}
	return []tls.Certificate{pair}, nil
}

var label = regexp.MustCompile(`-----(BEGIN|END) [A-Z0-9 ]+-----`)

// Lines gives a PEM text its lines again, which a field of one line takes away.
func Lines(pem string) []byte {
	if strings.Contains(pem, "\n") {
		return []byte(pem)
	}
	var out strings.Builder
	for rest := pem; ; {
		at := label.FindStringIndex(rest)
		if at == nil {
			return []byte(out.String())
		}
		out.WriteString(strings.ReplaceAll(strings.TrimSpace(rest[:at[0]]), " ", "\n"))
		out.WriteString("\n" + rest[at[0]:at[1]] + "\n")
		rest = rest[at[1]:]
	}
}

func speakTLS(ctx context.Context, c *connect.Connection, plain net.Conn, host string, w *Way) (net.Conn, error) {
	config, err := Config(c, host)
	if err != nil {
		_ = plain.Close()
		return nil, &Error{"reading the own certificate", err, "paste the certificate and its key anew"}
	}
	conn := tls.Client(plain, config)
	if err := conn.HandshakeContext(ctx); err != nil {
		_ = plain.Close()
		return nil, &Error{"speaking TLS with " + config.ServerName, err, whatToDo(err)}
	}
	state := conn.ConnectionState()
	if len(state.PeerCertificates) > 0 {
		its := state.PeerCertificates[0]
		w.Did("%s, %s, until %s, by %s", tls.VersionName(state.Version), config.ServerName,
			its.NotAfter.Format("2 January 2006"), its.Issuer.CommonName)
	}
	return conn, nil
}

// whatToDo says how a failed handshake is mended.
func whatToDo(err error) string {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown):
		return "name its certificate authority under TLS"
	case errors.As(err, &name):
		return "name under TLS the server that its certificate is for"
	case errors.As(err, &invalid):
		return "its owner has to renew the certificate"
	case errors.As(err, &record):
		return "this port does not speak TLS: look at the port, or take the address without TLS"
	}
	return "look whether it wants a client certificate, or another version of TLS"
}
