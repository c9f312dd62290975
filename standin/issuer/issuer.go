// Package issuer is a simulated OpenID issuer: it signs in whoever is asked for, without a
// password, and says of them what the demo makes up. It is for trials and tests, on this
// machine alone.
package issuer

import (
	"errors"
	"net"
	"net/http"
	"strings"

	"github.com/oauth2-proxy/mockoidc"
)

// Somebody is a person of the issuer.
type Somebody struct {
	Subject, Name, Email string
	Groups               []string
}

// Issuer is a running one.
type Issuer struct {
	Address, Client, Secret string
	mock                    *mockoidc.MockOIDC
}

// Start runs an issuer on a free port of this machine. next says who signs in whenever
// somebody is sent there.
func Start(next func() Somebody) (*Issuer, error) {
	m, err := mockoidc.NewServer(nil)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	err = m.AddMiddleware(func(h http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, mockoidc.AuthorizationEndpoint) {
				s := next()
				m.QueueUser(&mockoidc.MockUser{Subject: s.Subject, PreferredUsername: s.Name, Email: s.Email, EmailVerified: true,
					Groups: s.Groups})
			}
			h.ServeHTTP(w, r)
		})
	})
	if err == nil {
		err = m.Start(l, nil)
	}
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return &Issuer{m.Issuer(), m.ClientID, m.ClientSecret, m}, nil
}

// Close ends it.
func (i *Issuer) Close() error { return i.mock.Shutdown() }
