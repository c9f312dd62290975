package main

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/pflag"

	"readyferry/engine/people"
	"readyferry/standin/issuer"
)

// openid is an issuer by whom people sign in, as it is told on the command line.
type openid struct {
	issuer, client, secret string
	roles                  []string
	given                  string // the secret itself, of the stand-in
}

func (o *openid) flags(f *pflag.FlagSet) {
	f.StringVar(&o.issuer, "openid-issuer", "", "address of an OpenID Connect issuer by whom people may sign in, too")
	f.StringVar(&o.client, "openid-client", "", "how the application is called there")
	f.StringVar(&o.secret, "openid-secret-file", "", "file with its secret there")
	f.StringArrayVar(&o.roles, "openid-role", nil,
		"role by what the issuer says, as claim=value:role or claim=value:role@area; as often\n"+
			"as there are some. Without any an owner gives roles, and adds people beforehand")
}

// read gives the issuer; nil where none is told.
func (o *openid) read() (*people.OpenID, error) {
	if o.issuer == "" {
		return nil, nil
	}
	if o.client == "" {
		return nil, errors.New("--openid-issuer needs --openid-client")
	}
	if !strings.HasPrefix(o.issuer, "https://") && !strings.HasPrefix(o.issuer, "http://127.0.0.1") &&
		!strings.HasPrefix(o.issuer, "http://localhost") {
		return nil, errors.New("--openid-issuer is reached over https, or on this machine")
	}
	out := &people.OpenID{Issuer: o.issuer, Client: o.client, Secret: o.given}
	if o.secret != "" {
		b, err := os.ReadFile(o.secret)
		if err != nil {
			return nil, fmt.Errorf("--openid-secret-file: %w", err)
		}
		out.Secret = strings.TrimSpace(string(b))
	}
	for _, text := range o.roles {
		r, err := people.ParseRoleOf(text)
		if err != nil {
			return nil, fmt.Errorf("--openid-role: %w", err)
		}
		out.Roles = append(out.Roles, r)
	}
	return out, nil
}

// standIn runs the simulated issuer of the demo, who signs in one made-up operator.
func (o *openid) standIn() (*issuer.Issuer, error) {
	i, err := issuer.Start(func() issuer.Somebody {
		return issuer.Somebody{Subject: "rhea", Name: "rhea.talbot", Email: "rhea.talbot@larkfield.example",
			Groups: []string{"circulation desk"}}
	})
	if err != nil {
		return nil, fmt.Errorf("the stand-in issuer: %w", err)
	}
	o.issuer, o.client, o.given = i.Address, i.Client, i.Secret
	o.roles = append(o.roles, "groups=circulation desk:operator@circulation")
	return i, nil
}
